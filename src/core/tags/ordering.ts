import { shortDigest, type Digest } from '../oci/digest';
import type { Follows } from './rules';
import { compareVersions, isPrerelease, type Version } from './version';

/** Where a build stands in the history of its product. */
export interface Position {
  version?: Version | undefined;
  /** Full commit id. */
  commit: string;
}

/**
 * What git knows of two commits: whether the first is an ancestor of the second (or is the second),
 * or undefined where it cannot be known.
 */
export type Ancestry = (older: string, newer: string) => boolean | undefined;

/** How one build stands to another. `unrelated`: on different branches, neither contains the other. */
export type Order = 'newer' | 'same' | 'older' | 'unrelated' | 'unknown';

/** How `candidate` stands to `current`: by version where both have one, else by commit. */
export function compareOrder(candidate: Position, current: Position, ancestry: Ancestry): Order {
  if (candidate.version !== undefined && current.version !== undefined) {
    const order = compareVersions(candidate.version, current.version);
    return order > 0 ? 'newer' : order < 0 ? 'older' : 'same';
  }
  if (candidate.commit === current.commit) {
    // The same commit with a version now is the later publication of the two.
    return candidate.version !== undefined ? 'newer' : current.version !== undefined ? 'older' : 'same';
  }
  const after = ancestry(current.commit, candidate.commit);
  if (after === true) {
    return 'newer';
  }
  const before = ancestry(candidate.commit, current.commit);
  if (before === true) {
    return 'older';
  }
  return after === false && before === false ? 'unrelated' : 'unknown';
}

/** What a moving tag points at now. The position is missing where nothing recorded it. */
export interface CurrentTarget {
  digest: Digest;
  position?: Position | undefined;
}

/** Whether a moving tag moves, and why. */
export interface MovingDecision {
  outcome: 'created' | 'unchanged' | 'moved' | 'held';
  reason: string;
}

/** Decides about one moving tag. Never moves it to something older, or to something that cannot be ordered. */
export function decideMoving(
  follows: Follows,
  candidate: Position & { digest: Digest },
  current: CurrentTarget | undefined,
  ancestry: Ancestry,
): MovingDecision {
  if (follows === 'release' && candidate.version !== undefined && isPrerelease(candidate.version)) {
    return { outcome: 'held', reason: `${candidate.version} is a pre-release; only releases move this tag` };
  }
  if (current === undefined) {
    return { outcome: 'created', reason: 'the tag is new' };
  }
  if (current.position === undefined) {
    return current.digest === candidate.digest
      ? { outcome: 'unchanged', reason: 'it already points here' }
      : { outcome: 'held', reason: `it points at ${shortDigest(current.digest)}, which the ledger does not know` };
  }
  const there = describePosition(current.position);
  const order =
    follows === 'branch'
      ? compareOrder({ commit: candidate.commit }, { commit: current.position.commit }, ancestry)
      : compareOrder(candidate, current.position, ancestry);
  switch (order) {
    case 'same':
    case 'newer':
      return current.digest === candidate.digest
        ? { outcome: 'unchanged', reason: 'it already points here' }
        : { outcome: 'moved', reason: `was ${there}` };
    case 'older':
      return { outcome: 'held', reason: `${there} has it and is newer` };
    case 'unrelated':
      return { outcome: 'held', reason: `${there} has it and does not come before this one` };
    case 'unknown':
      return { outcome: 'held', reason: `${there} has it, and git here cannot tell which is newer` };
  }
}

/** A build as people name it: its version, or the beginning of its commit. */
export function describePosition(position: Position): string {
  return position.version ?? position.commit.slice(0, 12);
}
