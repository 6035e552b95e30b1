import { shortDigest, type Digest } from '../oci/digest';
import type { Tag } from '../tags/tag';

/** Whether a registry agrees with the ledger. `unknown`: it could not be asked. */
export const driftStates = ['none', 'drifted', 'unknown'] as const;

/** How a registry stands to what the ledger says of one image. */
export interface Drift {
  readonly state: (typeof driftStates)[number];
  /** What differs, or why it is not known. */
  readonly detail: string;
}

/** A tag as the ledger recorded it, and as the registry serves it; undefined where there is no such tag. */
export interface TagComparison {
  readonly tag: Tag;
  readonly recorded: Digest;
  readonly served: Digest | undefined;
}

/** Compares what the ledger says of an image with what its registry serves. `content`: whether it is still there. */
export function driftOf(digest: Digest, content: boolean, tags: readonly TagComparison[]): Drift {
  const findings = [
    ...(content ? [] : [`${shortDigest(digest)} is gone`]),
    ...tags.flatMap(({ tag, recorded, served }) => {
      if (served === undefined) {
        return [`the tag ${tag} is gone`];
      }
      return served === recorded ? [] : [`${tag} points to ${shortDigest(served)}, not to ${shortDigest(recorded)}`];
    }),
  ];
  return { state: findings.length === 0 ? 'none' : 'drifted', detail: findings.join('; ') };
}
