import type { SandboxResult } from '../../results/sandbox';
import type { Screen } from '../answer';
import { columns } from './format';

/** What `sandbox` answers to people. */
export function sandboxView({ registries, identity, receiver }: SandboxResult, { style }: Screen): string {
  const rows = registries.map(({ name, registry, folder }) => [name, registry, folder ?? 'in memory']);
  return [
    'The sandbox is running; end it with Ctrl-C.',
    ...columns(rows, '  ', (cell, column) => (column === 0 ? style.strong(cell) : cell)),
    ...(identity === null ? [] : identityLines(identity, rows)),
    ...(receiver === null ? [] : receiverLines(receiver)),
  ].join('\n');
}

/** How a receiver is told. */
function receiverLines({ url, key }: NonNullable<SandboxResult['receiver']>): string[] {
  return [
    '',
    'It takes announcements, and shows them to whoever asks there. A job signs them with:',
    `  export SANDBOX_ANNOUNCE_KEY=${key}`,
    'and this in hod.yaml:',
    '  announce:',
    `    sandbox: { url: "${url}", key: { env: SANDBOX_ANNOUNCE_KEY } }`,
  ];
}

/** What a job would find in its environment, and what hod.yaml says to use it. */
function identityLines(identity: NonNullable<SandboxResult['identity']>, rows: readonly string[][]): string[] {
  return [
    '',
    'It asks for access tokens. A job proves itself with:',
    `  export SANDBOX_JOB_URL=${identity.tokenUrl} SANDBOX_JOB_BEARER=${identity.bearer}`,
    'and this in hod.yaml:',
    '  registries:',
    ...rows.map(([, registry]) => {
      const token = '{ request: { url: SANDBOX_JOB_URL, bearer: SANDBOX_JOB_BEARER } }';
      const job = `{ token: ${token}, audience: ${identity.audience}, exchange: "${identity.exchange}" }`;
      return `    ${registry ?? ''}: { credentials: { job: ${job} } }`;
    }),
    `It also logs in at ${identity.exchange.replace(/exchange$/, 'login/')}form, /json and /header, as docs/access.md describes.`,
  ];
}
