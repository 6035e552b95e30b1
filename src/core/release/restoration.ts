import type { Digest } from '../oci/digest';
import type { RepositoryName } from '../oci/reference';
import { laneHeadIn, servedIn } from '../ledger/environment';
import { everUnder, tagKey, type TagPlace } from '../ledger/facts';
import { factNeed, type Decision, type Knowledge, type Need } from './knowledge';
import { tagsIn } from './rollback-tags';
import { stepsFrom, type Steps } from './rollback-steps';
import { decideInstead, type Instead } from './stand-in';
import { restoredTag, type TagDecision } from './tag-decisions';

/** The tags that the ledger set in an environment, and those that stand elsewhere than it says. */
export interface WatchedTags {
  /** How many there are. */
  readonly count: number;
  /** What puts each right that stands elsewhere. */
  readonly stray: readonly TagDecision[];
}

/**
 * Finds every tag of an environment that stands elsewhere than the ledger says: moved, overwritten or removed by hand, left on what
 * was withdrawn, or left by a run that was killed.
 *
 * @param placeOf The repository of a component there; undefined for one that is not looked at.
 */
export function watchTags(
  environment: string,
  placeOf: (component: string) => RepositoryName | undefined,
  known: Knowledge,
): Decision<WatchedTags> {
  const unknown = known.missing([factNeed('environment', environment)]);
  if (unknown !== undefined) {
    return unknown;
  }
  const last = known.facts.get('environment', environment)?.steps ?? 0;
  const steps = stepsFrom(environment, { first: 1, last }, known);
  if (steps.kind !== 'decided') {
    return steps;
  }
  const { facts } = known;
  const places = tagsIn(steps.value).filter(({ component, repository }) => placeOf(component) === repository);
  const standing = known.missing(
    places.flatMap(({ repository, tag }): Need[] => [
      factNeed('tag', tagKey(repository, tag)),
      { kind: 'served', repository, tag },
    ]),
  );
  if (standing !== undefined) {
    return standing;
  }
  const gone = places.filter(({ repository, tag }) => facts.get('tag', tagKey(repository, tag))?.gone === true);
  const headOf = (lane: string, component: string) => laneHeadIn(facts, environment, lane, component);
  const instead = decideInstead(environment, gone, { serves: servedIn(facts, environment), headOf }, known);
  return instead.kind === 'decided'
    ? {
        kind: 'decided',
        value: {
          count: places.length,
          stray: places.flatMap((place) =>
            strayTag(place, { insteadOf: instead.value, ever: everHad(place.component, steps.value) }, known),
          ),
        },
      }
    : instead;
}

/** Returns every digest of a component that an environment has had. A removed tag must not lead to any of them. */
function everHad(component: string, steps: Steps): Digest[] {
  const all = [...steps.values()].flatMap(({ served, lanes, tags }) => [
    ...served.map((each) => ({ component: each.component, digests: [each.was?.digest] })),
    ...[...lanes, ...tags].map((each) => ({ component: each.component, digests: [each.is?.digest, each.was?.digest] })),
  ]);
  const own = all.filter((each) => each.component === component).flatMap(({ digests }) => digests);
  return [...new Set(own.filter((digest) => digest !== undefined))];
}

function strayTag(
  place: TagPlace,
  { insteadOf, ever }: { readonly insteadOf: Instead; readonly ever: readonly Digest[] },
  known: Knowledge,
): TagDecision[] {
  const { repository, tag } = place;
  const target = known.facts.get('tag', tagKey(repository, tag));
  const served = known.servedUnder(repository, tag);
  if (target === undefined) {
    return [];
  }
  const { kind, digest, platform } = target;
  if (target.gone === true) {
    const instead = insteadOf(place);
    // It may stand where a rollback pointed it: each rollback sees to it that nothing withdrawn is there.
    const never = [...everUnder(target), ...ever].filter((each) => each !== instead && each !== target.instead);
    return served !== undefined && never.includes(served)
      ? [{ ...place, kind, platform, digest, outcome: 'removed', reason: 'it was rolled back', served, never, instead }]
      : [];
  }
  // Tidying removed it with its content; where it stands, somebody wrote it again, and only its own digest is right.
  return target.tidied === true && (served === undefined || served === digest)
    ? []
    : restoredTag(place, target, served);
}
