import type { CommitId } from '../core/commit';
import type { CommitSigner } from '../core/release/gates/signed-commit';
import { runProgram } from '../system/programs';
import { withTemporaryFiles } from '../system/temporary-folder';

/**
 * Reads who signed a commit, by git's own check of its SSH signature. The programs that check are named here, and not by the
 * settings of the clone; signatures of other kinds, which other programs would judge by keys of their own, do not count.
 *
 * @param people Lines of a file of allowed signers.
 */
export async function readCommitSigner(
  folder: string,
  commit: CommitId,
  people: readonly string[],
): Promise<CommitSigner> {
  const files = new Map([['people', `${people.join('\n')}\n`]]);
  return withTemporaryFiles(files, async (pathOf) => {
    const settings = [
      `gpg.ssh.allowedSignersFile=${pathOf('people')}`,
      'gpg.ssh.program=ssh-keygen',
      'gpg.program=false',
      'gpg.openpgp.program=false',
      'gpg.x509.program=false',
    ].flatMap((setting) => ['-c', setting]);
    const run = await runProgram('git', [...settings, 'verify-commit', '--raw', commit], { folder, timeout: 60_000 });
    const [, by] = /^Good "git" signature for (\S+) with /m.exec(run.stderr) ?? [];
    if (run.exitCode === 0 && by !== undefined) {
      return { by };
    }
    return { problem: problemOf(run.stderr, run.cause) };
  });
}

function problemOf(said: string, cause: string | undefined): string {
  if (cause !== undefined) {
    return `git could not check its signature: ${cause}`;
  }
  if (said.trim() === '') {
    return 'it has no signature';
  }
  return /No principal matched/.test(said)
    ? 'it is signed with a key that nobody in `trust: { people }` has'
    : `its signature does not count: ${said.trim().split('\n').at(-1) ?? ''}`;
}
