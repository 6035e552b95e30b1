import { describePosition } from '../../tags/ordering';
import { isFollowed } from '../../build/following';
import { wasAdopted, type Release } from '../../ledger/facts';
import type { Gate } from './gate';

/** Of which branches an environment takes releases. */
export interface Taking {
  /** Names and patterns. */
  readonly branches: readonly string[];
  /** Who says so: `takes` of the environment, or `follows` of the first one. */
  readonly source: string;
  /** hod.yaml says so for this environment: a pull request may be named then, as `pr-12`. */
  readonly own: boolean;
  /** hod.yaml says nothing: what was followed when it was published is taken, for a job without git does not know the branches. */
  readonly usual: boolean;
}

/** Takes releases of every branch: for what came in already. */
export const everyBranch: Taking = { branches: ['**'], source: 'all of them', own: true, usual: false };

/** Checks that an environment takes releases of the branch of a release. A pull request is of no branch, whatever its branch is called. */
export function isTaken(release: Release, { branches, source, own, usual }: Taking, environment: string): Gate {
  const gate = 'branch';
  const { branch } = release;
  const names = [...release.branches, ...(own && branch !== undefined ? [branch] : [])];
  const taken = names.find((name) => isFollowed(name, branches));
  if (taken !== undefined) {
    return { gate, outcome: 'met', detail: `${environment} takes releases of ${taken}` };
  }
  if (usual && (release.version !== undefined || release.arrived.some(({ way }) => way === 'takes-over'))) {
    return { gate, outcome: 'met', detail: 'its branch was followed when it was published' };
  }
  if (wasAdopted(release)) {
    return { gate, outcome: 'met', detail: 'it was served before the ledger began (adopted)' };
  }
  const built = branch === undefined ? 'the branch of this one is not known' : `this one was built from ${branch}`;
  return {
    gate,
    outcome: 'unmet',
    code: 'branch-not-taken',
    what: `${environment} takes no releases of this branch`,
    object: `${describePosition(release)} to ${environment}`,
    detail: `${environment} takes releases of ${branches.join(', ')} (${source}); ${built}`,
    remedy: `merge the commit and publish it from one of these branches; or name its branch in \`takes\` of ${environment} in hod.yaml`,
  };
}
