import picomatch from 'picomatch';

/** Whether a build is of a branch that the first environment follows, as far as that does not turn on its version. */
export interface Following {
  /** Names and patterns of the branches that are followed. */
  readonly branches: readonly string[];
  /** Hod.yaml does not say which; they are the usual ones. */
  readonly usual: boolean;
  readonly branch: string | undefined;
  readonly pullRequest: boolean;
  /** The branches, here and at the remote, that contain the commit; of one that its branch or a pull request settles, none are named. */
  readonly containing: readonly string[];
  /** Why the branch that somebody named does not count; undefined where it does, or none was named. */
  readonly unproven?: string | undefined;
}

/** Whether a branch is among some that are followed, by name or pattern. */
export function isFollowed(branch: string, branches: readonly string[]): boolean {
  return picomatch.isMatch(branch, [...branches], { dot: true });
}

/** The branches that a build is of: its own, unless it builds a pull request, and those that contain its commit. */
export function branchesOf({ branch, pullRequest, containing }: Following): string[] {
  return pullRequest ? [] : [...new Set([...(branch === undefined ? [] : [branch]), ...containing])];
}

/** Returns why a build never takes over the first environment; undefined where it may. */
export function whyNotFollowed(
  { branches, usual, branch, pullRequest, containing, unproven }: Following,
  { hasVersion, environment }: { readonly hasVersion: boolean; readonly environment: string },
): string | undefined {
  const list = branches.join(', ');
  const key = `\`follows\` of ${environment} in hod.yaml ${usual ? 'can name others' : 'says so'}`;
  if (pullRequest) {
    return `only builds of ${list} take over, and this one is of a pull request`;
  }
  if (branch !== undefined && isFollowed(branch, branches)) {
    return undefined;
  }
  if (hasVersion && containing.some((name) => isFollowed(name, branches))) {
    return undefined;
  }
  if (unproven !== undefined) {
    return `only builds of ${list} take over, and ${unproven}`;
  }
  const unknown = hasVersion
    ? 'git here has no such branch that contains its commit: `git fetch` may bring it, or --branch names it'
    : 'the branch of this one is not known: --branch names it';
  return branch === undefined
    ? `only builds of ${list} take over (${key}), and ${unknown}`
    : `only builds of ${list} take over (${key}), and this one is of ${branch}`;
}
