import { execFileSync } from 'node:child_process';
import { createHash } from 'node:crypto';
import { mkdtempSync, readFileSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { hodJson } from '../support/hod';
import { sandboxWorld, type SandboxWorld } from '../support/world';

/** Whose sign-off counts: what somebody could make up does not. */

const keys = mkdtempSync(join(tmpdir(), 'hod-people-'));
const file = (name: string): string => readFileSync(join(keys, name), 'utf8');
let sandbox: SandboxWorld;
let count = 0;
const signOff = (...args: string[]) =>
  hodJson('sign-off', ['record', 'sign-off', '--for', 'uat', ...args], sandbox.world.options);
const why = (error: { why: unknown }): string => [error.why].flat().join('\n');

beforeAll(async () => {
  sandbox = await sandboxWorld();
  const { world } = sandbox;
  for (const name of ['una', 'siv', 'ole', 'mole']) {
    execFileSync('ssh-keygen', ['-q', '-t', 'ed25519', '-N', '', '-C', name, '-f', join(keys, name)]);
  }
  const line = (name: string, options = ''): string => `${name}@skerry.test ${options}${file(`${name}.pub`)}`;
  const people = [line('una'), line('siv'), line('ole', 'valid-before="20200101" ')];
  writeFileSync(join(keys, 'people'), people.join(''));
  await world.configure(
    '    tags: { fixed: ["{version}"], moving: [uat] }',
    '$&\n    gates: { sign-offs: { count: 2, from: [managers], proven: true } }',
  );
  await world.configure(
    /^environments:/m,
    `trust: { people: { file: '${join(keys, 'people')}' } }\ngroups: { managers: [una@skerry.test, siv@skerry.test, ole@skerry.test] }\nenvironments:`,
  );
  await world.publish('--actor', 'ci');
});
afterAll(() => sandbox.close());

test('a name alone, a key that nobody has, one that expired and one of no manager are refused when they sign off', async () => {
  const { world } = sandbox;
  const refused = (code: Parameters<typeof world.fails>[0], ...args: string[]) =>
    world.fails(code, 'record', 'sign-off', '--for', 'uat', ...args);
  expect(why(await refused('sign-off-uncounted', '--actor', 'una@skerry.test'))).toContain('a name can be made up');
  expect(why(await refused('sign-off-uncounted', '--actor', 'mole'))).toContain('mole is not one of them');
  expect(why(await refused('signing-failed', '--sign', join(keys, 'mole')))).toContain('of no key in `trust');
  expect(why(await refused('signing-failed', '--sign', join(keys, 'ole')))).toContain('valid then');
  expect(why(await refused('signing-failed', '--sign', join(keys, 'nowhere')))).toMatch(/No such file/);
  await refused('signing-failed', '--sign');
});

test('what two managers signed is promoted, and proved; ssh-keygen says the same of it', async () => {
  const { world } = sandbox;
  const [una] = [await signOff('--sign', join(keys, 'una'), '--actor', 'siv')];
  expect(una).toMatchObject({ by: 'una@skerry.test', isNew: true });
  expect(await signOff('--sign', join(keys, 'una'))).toMatchObject({ isNew: false });
  expect(why(await world.fails('sign-off-missing', 'promote', 'uat'))).toContain('1 of 2 signed off: una@skerry.test');
  execFileSync('git', ['config', 'user.signingkey', join(keys, 'siv')], { cwd: world.product.folder });
  expect(await signOff('--sign')).toMatchObject({ by: 'siv@skerry.test', isNew: true });
  await hodJson('ledger-copy', ['ledger', 'export', 'copy.jsonl'], world.options);
  const [line = ''] = readFileSync(join(world.product.folder, 'copy.jsonl'), 'utf8')
    .split('\n')
    .filter((each) => each.includes('"signed-off"'));
  const { action } = JSON.parse(line) as {
    action: { rules: string; releases: { content: string; signature: string }[] };
  };
  const [release] = action.releases;
  writeFileSync(join(keys, 'signature'), release?.signature ?? '');
  const text = `hod sign-off\nproduct: skerry-line\nenvironment: uat\ncontent: ${release?.content ?? ''}\nrules: ${action.rules}\n`;
  const verify = ['-Y', 'verify', '-f', 'people', '-I', 'una@skerry.test', '-n', 'hod-sign-off', '-s', 'signature'];
  expect(execFileSync('ssh-keygen', verify, { cwd: keys, input: text, encoding: 'utf8' })).toContain('Good');
  const promoted = await world.promote('uat');
  expect(promoted.gates).toContainEqual(
    expect.objectContaining({ gate: 'sign-offs', detail: 'signed off by una@skerry.test, siv@skerry.test' }),
  );
  expect((await hodJson('prove', ['prove', 'uat'], world.options)).environments[0]?.findings).toEqual([]);
});

test.each<[string, (entry: string, later: string) => string, RegExp]>([
  ['of another release', (first) => first, /not over this release, environment and rules/],
  [
    'for another environment',
    (_, later) => later.replaceAll('"environment":"uat"', '"environment":"prod"'),
    /0 of 2 signed off(;|$)/,
  ],
  [
    'of another person',
    (_, later) => later.replaceAll('una@skerry.test', 'siv@skerry.test'),
    /it is of una@skerry.test/,
  ],
  ['that was cut', (_, later) => later.replace(/(-----BEGIN SSH SIGNATURE-----\\n.{20})/, '$1xxxx'), /does not count/],
  [
    'under other rules',
    (_, later) => later.replace(/"rules":"sha256:\w{12}/, '"rules":"sha256:000000000000'),
    /signed it under other rules of uat/,
  ],
])('a signature %s does not count, whoever wrote it into the ledger', async (name, forge, reason) => {
  const { world } = sandbox;
  count += 1;
  const version = `2.${5 + count}.0`;
  await world.product.change('timetable', `Sail ${name}`);
  await world.product.build(name);
  await world.publish('--branch', 'main', '--version', version, '--actor', 'ci');
  const { releases } = await signOff('--sign', join(keys, 'una'));
  expect(releases[0]?.version).toBe(version);
  // Somebody who can write to the ledger makes it anew, with another sign-off.
  const { folder } = world.product;
  await hodJson('ledger-copy', ['ledger', 'export', 'copy.jsonl'], world.options);
  const lines = readFileSync(join(folder, 'copy.jsonl'), 'utf8').trimEnd().split('\n');
  const signed = lines.filter((line) => line.includes('"kind":"signed-off"'));
  const [first = '', last = ''] = [signed[0], signed.at(-1)];
  const pick = (text: string): string => /"signature":"((?:[^"\\]|\\.)*)"/.exec(text)?.[1] ?? '';
  const forged = name === 'of another release' ? last.replace(pick(last), pick(first)) : forge(first, last);
  expect(forged).not.toBe(last);
  writeFileSync(
    join(folder, 'forged.jsonl'),
    sealed([...lines.slice(0, -1).map((line) => (line === last ? forged : line))]),
  );
  const other = join(folder, `forged-${count}.db`);
  const config = readFileSync(join(folder, 'hod.yaml'), 'utf8');
  writeFileSync(join(folder, 'forged.yaml'), `${config}ledger: { file: ${JSON.stringify(other)} }\n`);
  const forgedConfig = ['--config', 'forged.yaml'];
  await hodJson('ledger-copy', ['ledger', 'import', 'forged.jsonl', ...forgedConfig], world.options);
  expect(why(await world.fails('sign-off-missing', 'promote', 'uat', ...forgedConfig))).toMatch(reason);
});

/** Makes the hashes of a copy of a ledger anew, as one who forges it would. */
function sealed(lines: readonly string[]): string {
  let previous: string | null = null;
  let seq = 0;
  const out = lines.map((line) => {
    const entry = { ...(JSON.parse(line) as object), previous };
    const text = JSON.stringify(entry);
    previous = `sha256:${createHash('sha256').update(text).digest('hex')}`;
    seq += 1;
    return text;
  });
  return `${[...out, JSON.stringify({ end: { seq, hash: previous } })].join('\n')}\n`;
}
