import { isFollowed, type Following } from '../../core/build/following';
import type { Build } from '../../core/build/build';
import type { Config } from '../../workspace/config';
import { branchesWith, usualBranches } from '../../workspace/git';

/** Reads what decides whether a build is of a branch that the first environment follows. */
export async function readFollowing(
  { folder, environments }: Config,
  { branch, pullRequest, commit }: Pick<Build, 'branch' | 'pullRequest' | 'commit'>,
): Promise<Following> {
  const [{ follows }] = environments;
  const branches = follows ?? (await usualBranches(folder));
  // Where the branch does not settle it, the commit may.
  const isSettled = pullRequest || (branch !== undefined && isFollowed(branch, branches));
  const containing = isSettled ? [] : await branchesWith(folder, commit);
  return { branches, usual: follows === undefined, branch, pullRequest, containing };
}
