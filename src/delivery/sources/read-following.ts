import { isFollowed, type Following } from '../../core/build/following';
import type { Build } from '../../core/build/build';
import type { Taking } from '../../core/release/gates/taking';
import type { Config, EnvironmentConfig } from '../../workspace/config';
import { branchesWith, usualBranches } from '../../workspace/git';

/** Reads of which branches an environment takes releases: those that hod.yaml names for it, else those that the first one follows. */
export async function readTaking(
  { folder, environments: [{ name, follows }] }: Config,
  { takes }: EnvironmentConfig,
): Promise<Taking> {
  if (takes !== undefined) {
    return { branches: takes, source: '`takes` in hod.yaml', own: true, usual: false };
  }
  return follows === undefined
    ? { branches: await usualBranches(folder), source: `what ${name} follows`, own: false, usual: true }
    : { branches: follows, source: `\`follows\` of ${name} in hod.yaml`, own: false, usual: false };
}

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
