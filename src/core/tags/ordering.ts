import { shortCommit, type CommitId } from '../commit';
import { shortDigest, type Digest } from '../oci/digest';
import type { Follows } from './rules';
import { compareVersions, isPrerelease, type Version } from './version';

/** Where a build stands in the history of its product; as much of it as is known. */
export interface Position {
  version?: Version | undefined;
  commit?: CommitId | undefined;
}

/** What git knows of the order of commits. */
export interface Ancestry {
  /**
   * Whether the first commit is an ancestor of the second, or is the second; undefined where that
   * cannot be known here.
   */
  contains(older: CommitId, newer: CommitId): boolean | undefined;
  /** Why something cannot be known, and what would help. */
  readonly gap: string;
}

/** The order of commits where the branch of a commit was rewritten: it comes after those that it has nothing to do with. */
export function afterRewrite(ancestry: Ancestry, commit: CommitId): Ancestry {
  return {
    contains(older, newer) {
      const known = ancestry.contains(older, newer);
      return newer === commit && known === false && ancestry.contains(newer, older) === false ? true : known;
    },
    gap: ancestry.gap,
  };
}

/** How one build stands to another. `unrelated`: on different branches, neither contains the other. */
export type Order = 'newer' | 'same' | 'older' | 'unrelated' | 'unknown';

/** How `candidate` stands to `current`: by version where both have one, else by commit. */
export function compareOrder(candidate: Position, current: Position, ancestry: Ancestry): Order {
  if (candidate.version !== undefined && current.version !== undefined) {
    const order = compareVersions(candidate.version, current.version);
    return order > 0 ? 'newer' : order < 0 ? 'older' : 'same';
  }
  if (candidate.commit === undefined || current.commit === undefined) {
    return 'unknown';
  }
  if (candidate.commit === current.commit) {
    // The same commit with a version now is the later publication of the two.
    return candidate.version !== undefined ? 'newer' : current.version !== undefined ? 'older' : 'same';
  }
  const after = ancestry.contains(current.commit, candidate.commit);
  if (after === true) {
    return 'newer';
  }
  const before = ancestry.contains(candidate.commit, current.commit);
  if (before === true) {
    return 'older';
  }
  return after === false && before === false ? 'unrelated' : 'unknown';
}

/** What a moving tag points to now. The position is missing where nothing recorded it. */
export interface CurrentTarget {
  digest: Digest;
  position?: Position | undefined;
}

/** Why a moving tag is held: by the order of builds, or because builds of this kind never move it. */
export type HeldBy = 'order' | 'kind';

/** Whether a moving tag moves, and why. */
export type MovingDecision =
  { outcome: 'created' | 'unchanged' | 'moved'; reason: string } | { outcome: 'held'; by: HeldBy; reason: string };

/** Decides about one moving tag. Never moves it to something older, or to something that cannot be ordered. */
export function decideMoving(
  follows: Follows,
  candidate: Position & { digest: Digest },
  current: CurrentTarget | undefined,
  ancestry: Ancestry,
): MovingDecision {
  if (follows === 'release' && candidate.version === undefined) {
    return { outcome: 'held', by: 'kind', reason: 'only releases move this tag, and this build has no version' };
  }
  if (follows === 'release' && candidate.version !== undefined && isPrerelease(candidate.version)) {
    const reason = `${candidate.version} is a pre-release; only releases move this tag`;
    return { outcome: 'held', by: 'kind', reason };
  }
  if (current === undefined) {
    return { outcome: 'created', reason: 'the tag is new' };
  }
  const { position, digest } = current;
  const arrived = digest === candidate.digest;
  if (position === undefined) {
    const reason = `points to ${shortDigest(digest)}; neither the ledger nor annotations name its commit or version`;
    return arrived ? pointsHere : { outcome: 'held', by: 'order', reason };
  }
  const there = describePosition(position);
  const order =
    follows === 'branch'
      ? compareOrder({ commit: candidate.commit }, { commit: position.commit }, ancestry)
      : compareOrder(candidate, position, ancestry);
  const held = (reason: string): MovingDecision => ({ outcome: 'held', by: 'order', reason });
  switch (order) {
    case 'same':
    case 'newer':
      return arrived ? pointsHere : { outcome: 'moved', reason: `was ${there}` };
    case 'older':
      return held(
        candidate.commit !== undefined && candidate.commit === position.commit
          ? `points to ${there}, the version of this commit`
          : `points to ${there}, which is newer`,
      );
    case 'unrelated':
      return held(`points to ${there}; neither commit contains the other`);
    case 'unknown':
      return held(`points to ${there}; the newer one is unknown: ${ancestry.gap}`);
  }
}

const pointsHere = { outcome: 'unchanged', reason: 'already points here' } as const;

/** A build as people name it: its version, or the beginning of its commit. */
export function describePosition(position: Position): string {
  return position.version ?? (position.commit && shortCommit(position.commit)) ?? 'something';
}
