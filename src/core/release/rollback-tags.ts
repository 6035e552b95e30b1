import type { Digest } from '../oci/digest';
import { describePosition } from '../tags/ordering';
import { tagKey, targetOf, type TagPlace, type TagTarget } from '../ledger/facts';
import type { Knowledge } from './knowledge';
import type { Steps } from './rollback-steps';
import { restoredTag, type TagDecision } from './tag-decisions';

/**
 * Tags that rollbacks moved or removed before a step. A rollback that was killed may have left them as they were, and
 * where something came since it is not found again by its reason.
 */
export function movedByRollbacks(back: number, steps: Steps): TagPlace[] {
  return [...steps]
    .filter(([number, step]) => number <= back && (step.back !== undefined || step.left !== undefined))
    .flatMap(([, { tags }]) => tags.map(({ component, repository, tag }) => ({ component, repository, tag })));
}

/** Every tag that these steps moved, and the tags of every component that they replaced. */
export function placedBefore(steps: Steps): TagPlace[] {
  return [...steps.values()].flatMap(({ tags, served }) => [
    ...tags.map(({ component, repository, tag }) => ({ component, repository, tag })),
    ...served.flatMap(({ component, was }) =>
      was === null ? [] : was.tags.map((tag) => ({ component, repository: was.repository, tag })),
    ),
  ]);
}

/** Each place once. */
export function uniqueTags(places: readonly TagPlace[]): TagPlace[] {
  return [...new Map(places.map((place) => [tagKey(place.repository, place.tag), place])).values()];
}

/** Every tag that these steps set, fixed ones too, each once. */
export function tagsIn(steps: Steps): TagPlace[] {
  return uniqueTags(
    [...steps.values()]
      .flatMap(({ tags, fixed }) => [...tags, ...fixed])
      .map(({ component, repository, tag }) => ({ component, repository, tag })),
  );
}

/** What a tag that is removed may not lead to, and what it leads to where the registry removes no tags. */
export interface Removal {
  /** What the tag has led to and may not lead to any more: runs that were ended may have left any of it there. */
  readonly stood: readonly Digest[];
  readonly instead: Digest | undefined;
}

/** Decides about a tag that a rollback moves, or removes: then `removal` says what it may not lead to. */
export function decideTag(
  of: TagPlace,
  is: TagTarget | null,
  { stood, instead }: Removal = { stood: [], instead: undefined },
  known: Knowledge,
): TagDecision[] {
  const target = known.facts.get('tag', tagKey(of.repository, of.tag));
  const recorded = targetOf(target);
  const served = known.servedUnder(of.repository, of.tag);
  if (is === null) {
    // It may be gone by the ledger, and stand there still: a run was killed before it removed it.
    const stands = target !== undefined && (recorded !== undefined || (served !== undefined && stood.includes(served)));
    const reason = 'no other release had it';
    const { platform } = target ?? {};
    return stands
      ? [
          {
            ...of,
            kind: 'moving',
            platform,
            digest: target.digest,
            outcome: 'removed',
            reason,
            served,
            never: stood,
            instead,
          },
        ]
      : [];
  }
  const outcome = served === is.digest ? 'unchanged' : recorded?.digest === is.digest ? 'restored' : 'moved';
  const was = recorded === undefined ? 'nothing' : describePosition(recorded);
  const reason = outcome === 'unchanged' ? 'already points here' : `back to ${describePosition(is)}, was ${was}`;
  return [{ ...of, kind: 'moving', platform: is.platform, digest: is.digest, outcome, reason, served }];
}

/**
 * Decides about a tag that a rollback does not move, where it stands elsewhere than the ledger says.
 *
 * @param gone Of a tag that is gone by the ledger.
 */
export function restoreTag(of: TagPlace, gone: Removal | undefined, known: Knowledge): TagDecision[] {
  const key = tagKey(of.repository, of.tag);
  const target = known.facts.get('tag', key);
  if (gone !== undefined) {
    return decideTag(of, null, gone, known);
  }
  return target === undefined ? [] : restoredTag(of, target, known.servedUnder(of.repository, of.tag));
}
