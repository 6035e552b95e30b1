import { rulesNamespace, signOffNamespace } from '../core/release/gates/sign-offs';
import type { SignedText, Signer } from '../core/trust/signed-text';
import { HodError } from '../core/errors';
import { runProgram, type ProgramRun } from '../system/programs';
import { withTemporaryFiles } from '../system/temporary-folder';

/** What signatures are over, in words, by what they are made for. */
const subjects = new Map([
  [signOffNamespace, 'release, environment and rules'],
  [rulesNamespace, 'environment and rules'],
]);

/** How long ssh-keygen may take, in milliseconds: to check, and to sign, where somebody may have to touch a key. */
const [checking, signing] = [20_000, 120_000];

/** Checks a signature of an SSH key over a text, and finds out whose it is (ssh-keygen(1), "-Y verify"). */
export async function readSigner({ text, namespace, signature, at, people }: SignedText): Promise<Signer> {
  const files = new Map([
    ['people', `${people.join('\n')}\n`],
    ['signature', signature],
  ]);
  return withTemporaryFiles(files, async (pathOf) => {
    // The key must have been valid when the ledger learnt of it.
    const time = `verify-time=${at.slice(0, 19).replace(/\D/g, '')}Z`;
    const given = ['-s', pathOf('signature'), '-f', pathOf('people')];
    const found = await sshKeygen(['-Y', 'find-principals', ...given, '-O', time]);
    const by = found.stdout.split('\n')[0]?.trim();
    if (found.exitCode !== 0 || by === undefined || by === '') {
      return { problem: found.cause ?? 'it is of no key in `trust: { people }` that was valid then' };
    }
    const run = await sshKeygen(['-Y', 'verify', ...given, '-I', by, '-n', namespace, '-O', time], text);
    return run.exitCode === 0
      ? { by }
      : { problem: run.cause ?? `it is of ${by}, and not over this ${subjects.get(namespace) ?? 'text'}` };
  });
}

/**
 * Signs a text with an SSH key, from a file or the agent.
 *
 * @param key The path of a key, private or public; a public one is looked for in the agent.
 * @throws `signing-failed`
 */
export async function signText(text: string, key: string, namespace: string): Promise<string> {
  const args = ['-Y', 'sign', '-f', key, '-n', namespace];
  const run = await runProgram('ssh-keygen', args, { folder: '.', input: text, timeout: signing });
  if (run.exitCode === 0 && run.stdout.includes('-----BEGIN SSH SIGNATURE-----')) {
    return run.stdout.trim();
  }
  throw new HodError('signing-failed', {
    what: 'ssh-keygen did not sign',
    object: key,
    why: run.cause ?? (run.stderr.trim().split('\n').at(-1) || 'it printed no signature'),
    next: 'name a key file with --sign FILE, or load the key into the agent (`ssh-add`)',
  });
}

function sshKeygen(args: readonly string[], input = ''): Promise<ProgramRun> {
  return runProgram('ssh-keygen', args, { folder: '.', input, timeout: checking, env: { TZ: 'UTC', LC_ALL: 'C' } });
}
