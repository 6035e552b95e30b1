import { isCommitId, notACommit, type CommitId } from '../../core/commit';
import { HodError } from '../../core/errors';
import type { ReleaseChoice } from '../../core/release/promotion';
import { parseVersion } from '../../core/tags/version';
import { readGit } from '../../workspace/git';

/** A release, by its version or its commit. */
export interface NamedRelease {
  version?: string | undefined;
  /** Anything that git here knows as a commit. */
  commit?: string | undefined;
}

/**
 * Reads which releases are meant: one that is named, else what an environment serves. Throws `usage`
 * where two are named, or the commit is none.
 */
export async function readChoice(
  folder: string,
  served: { name: string; after: string | undefined },
  { version, commit }: NamedRelease,
): Promise<ReleaseChoice> {
  if (version !== undefined && commit !== undefined) {
    throw new HodError('options-conflict', {
      what: 'two releases are named',
      object: `--version ${version} --commit ${commit}`,
      why: 'each of them names one',
      next: 'use one of them',
    });
  }
  if (version !== undefined) {
    return { version: parseVersion(version) };
  }
  return commit === undefined
    ? { servedBy: served.name, isFirst: served.after === undefined }
    : { commit: await readCommit(folder, commit) };
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
