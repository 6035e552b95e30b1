import { isCommitId, notACommit, type CommitId } from '../../core/commit';
import { HodError } from '../../core/errors';
import type { NamedChoice, ReleaseChoice } from '../../core/release/promotion';
import { parseVersion } from '../../core/tags/version';
import { readGit } from '../../workspace/git';

/** A release, by its version or its commit. */
export interface NamedRelease {
  version?: string | undefined;
  /** Anything that git here knows as a commit. */
  commit?: string | undefined;
}

/**
 * Reads which release is named; undefined where none is. Throws `usage` where two are named, or the
 * commit is none.
 *
 * @param option The option that names a version.
 */
export async function readNamed(
  folder: string,
  { version, commit }: NamedRelease,
  option: string,
): Promise<NamedChoice | undefined> {
  if (version !== undefined && commit !== undefined) {
    throw new HodError('options-conflict', {
      what: 'two releases are named',
      object: `${option} ${version} --commit ${commit}`,
      why: 'each of them names one',
      next: 'use one of them',
    });
  }
  if (version !== undefined) {
    return { version: parseVersion(version) };
  }
  return commit === undefined ? undefined : { commit: await readCommit(folder, commit) };
}

/** Reads which releases are meant: one that is named, else what an environment serves. Throws as {@link readNamed}. */
export async function readChoice(
  folder: string,
  served: { readonly name: string; readonly after: string | undefined },
  named: NamedRelease,
): Promise<ReleaseChoice> {
  const choice = await readNamed(folder, named, '--version');
  return choice ?? { servedBy: served.name, isFirst: served.after === undefined };
}

/** The commit that a name stands for in git here. Throws `not-a-commit`. */
async function readCommit(folder: string, commit: string): Promise<CommitId> {
  const git = await readGit(folder, commit);
  const id = 'commit' in git ? git.commit.id : commit;
  if (!isCommitId(id)) {
    throw notACommit(commit, 'gap' in git ? git.gap : undefined);
  }
  return id;
}
