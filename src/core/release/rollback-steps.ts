import { placeNow } from '../ledger/environment';
import type { Digest } from '../oci/digest';
import type { RepositoryName } from '../oci/reference';
import {
  stepKey,
  tagKey,
  type Facts,
  type LaneHead,
  type ServedComponent,
  type Step,
  type TagPlace,
  type TagTarget,
} from '../ledger/facts';
import type { ReleaseId } from '../ledger/release';
import { factNeed, type Decision, type Knowledge } from './knowledge';

/** Steps of an environment, by their numbers. */
export type Steps = ReadonlyMap<number, Step>;

/** A step that must be there, as if the environment had always been where it is now: places go by name, not by address. */
function stepOf(facts: Facts, environment: string, number: number): Step {
  const step = facts.get('step', stepKey(environment, number));
  if (step === undefined) {
    throw new Error(`the step ${number} of ${environment} is not there`);
  }
  const repositoryOf = placeNow(facts, environment);
  const placed = <T extends { readonly component: string; readonly repository: RepositoryName }>(each: T): T => {
    return { ...each, repository: repositoryOf(each.component, each.repository) };
  };
  const served = (each: ServedComponent | null): ServedComponent | null => each && placed(each);
  return {
    ...step,
    served: step.served.map((each) => ({ ...each, was: served(each.was) })),
    lanes: step.lanes.map((each) => ({ ...each, is: served(each.is), was: served(each.was) })),
    tags: step.tags.map(placed),
    fixed: step.fixed.map(placed),
  };
}

/** Asks for the steps of an environment, whose fact is known, from one number to another, both included. */
export function stepsFrom(
  environment: string,
  { first, last }: { readonly first: number; readonly last: number },
  known: Knowledge,
): Decision<Steps> {
  const numbers = Array.from({ length: last - first + 1 }, (_, at) => first + at);
  const missing = known.missing(numbers.map((step) => factNeed('step', stepKey(environment, step))));
  return (
    missing ?? {
      kind: 'decided',
      value: new Map(numbers.map((number) => [number, stepOf(known.facts, environment, number)])),
    }
  );
}

/** What took over in one decision, and is served since or was until the next did. */
export interface TakeOver {
  /** Its last step. */
  readonly last: number;
  readonly steps: readonly Step[];
}

/** Every take-over that was not rolled back, the newest first, as far as the steps are known. */
export function* takeOvers(last: number, steps: Steps): Generator<TakeOver> {
  let at = last;
  let later: Step[] = [];
  let end = 0;
  for (let step = steps.get(at); step !== undefined; step = steps.get(at)) {
    if (step.back !== undefined) {
      at = step.back;
      continue;
    }
    if (step.served.length > 0 || later.length > 0) {
      end = later.length === 0 ? at : end;
      later = [...later, step];
      if (!step.together) {
        yield { last: end, steps: later };
        later = [];
      }
    }
    at -= 1;
  }
}

/** How far steps are followed: back to one, from the last. */
export interface Span {
  readonly back: number;
  readonly last: number;
  readonly steps: Steps;
}

/** A component that something happens to: what stands of it then, and now. */
export interface ChangedComponent {
  readonly component: string;
  readonly is: ServedComponent | null;
  readonly was: ServedComponent | undefined;
}

/** Those components that something happened to since a step: what is served of them then, and now. */
export function servedAfter({ back, last, steps }: Span, served: readonly ServedComponent[]): ChangedComponent[] {
  const then = new Map<string, ServedComponent | null>();
  for (let number = last; number > back; number -= 1) {
    steps.get(number)?.served.forEach(({ component, was }) => then.set(component, was));
  }
  return [...then].map(([component, is]) => ({
    component,
    is,
    was: served.find((each) => each.component === component),
  }));
}

/** Where something stands: a lane, or a tag. `O` names the place, `V` is what stands there. */
interface Change<O, V> {
  readonly key: string;
  readonly of: O;
  readonly is: V | null;
  readonly was: V | null;
}

/** What came to stand somewhere, at a step, and has not been rolled back. */
export interface Stay<V> {
  readonly step: number;
  /** The environment served something else since that step. */
  readonly tookOver: boolean;
  readonly value: V;
}

/** A place, and all that came to stand there and has not been rolled back; the last of it stands there now. */
export interface Stays<O, V> {
  readonly key: string;
  readonly of: O;
  stays: readonly Stay<V>[];
}

/**
 * Plays steps again: for each place that they changed, what came to stand there and has not been rolled back since.
 *
 * @param after The step after which they are played: what stood somewhere then came at that step or before.
 */
export function playAgain<O, V extends { readonly release: ReleaseId }>(
  after: number,
  { last, steps }: Pick<Span, 'last' | 'steps'>,
  changes: (step: Step) => Change<O, V>[],
): Stays<O, V>[] {
  const places = new Map<string, Stays<O, V>>();
  for (let number = after + 1; number <= last; number += 1) {
    const step = steps.get(number);
    if (step === undefined) {
      continue;
    }
    const { back, left } = step;
    const changed = changes(step);
    for (const { key, of, was } of changed) {
      const first = was === null ? [] : [{ step: after, tookOver: true, value: was }];
      places.set(key, places.get(key) ?? { key, of, stays: first });
    }
    if (back !== undefined) {
      places.forEach((place) => {
        place.stays = place.stays.filter((stay) => !isUndone(stay, back));
      });
    } else if (left !== undefined) {
      places.forEach((place) => {
        place.stays = place.stays.filter(({ value }) => !left.releases.includes(value.release));
      });
    } else {
      for (const { key, is } of changed) {
        const place = places.get(key);
        if (place !== undefined && is !== null) {
          place.stays = [...place.stays, { step: number, tookOver: step.served.length > 0, value: is }];
        }
      }
    }
  }
  return [...places.values()];
}

/** Whether a rollback to a step takes something away: what came beside since stays. */
export function isUndone({ step, tookOver }: Stay<unknown>, back: number): boolean {
  return tookOver && step > back;
}

/** What stands somewhere after a rollback to a step: what stood there then, or what came beside since. */
export function standing<O, V extends { readonly release: ReleaseId }>(
  { back, last, steps }: Span,
  changes: (step: Step) => Change<O, V>[],
): { key: string; of: O; is: V | null }[] {
  // What was left behind on one lane since may stand below what is taken away: then it matters what came before.
  const places = playAgain(hasLeftLane({ back, last, steps }) ? 0 : back, { last, steps }, changes);
  const touched = new Set(stepsIn({ back, last, steps }).flatMap((step) => changes(step).map(({ key }) => key)));
  return places
    .filter(({ key }) => touched.has(key))
    .map(({ key, of, stays }) => ({
      key,
      of,
      is: stays.filter((stay) => !isUndone(stay, back)).at(-1)?.value ?? null,
    }));
}

/** Whether one lane was rolled back in these steps: then all steps before them are needed too. */
export function hasLeftLane(span: Span): boolean {
  return stepsIn(span).some(({ left }) => left !== undefined);
}

function stepsIn({ back, last, steps }: Span): Step[] {
  return Array.from({ length: last - back }, (_, at) => steps.get(back + 1 + at)).filter((step) => step !== undefined);
}

/** The releases that were left behind on a lane since a step. */
export function leftSince(back: number, steps: Steps): ReleaseId[] {
  return [...steps].filter(([number]) => number > back).flatMap(([, { left }]) => left?.releases ?? []);
}

/** What steps changed of the lanes of an environment. */
export function laneChanges({ lanes }: Step): Change<LanePlace, LaneHead>[] {
  return lanes.map(({ lane, component, is, was }) => ({
    key: `${lane} ${component}`,
    of: { lane, component },
    is,
    was,
  }));
}

/** What steps changed of the moving tags of an environment. */
export function tagChanges({ tags }: Step): Change<TagPlace, TagTarget>[] {
  return tags.map(({ component, repository, tag, is, was }) => {
    return { key: tagKey(repository, tag), of: { component, repository, tag }, is, was };
  });
}

/** A component on a lane. */
export interface LanePlace {
  readonly lane: string;
  readonly component: string;
}

/** Everything that was served of a component, since a step, before something else was. */
export function servedSince(component: string, back: number, steps: Steps): Digest[] {
  return [...steps]
    .filter(([number]) => number > back)
    .flatMap(([, { served }]) => served)
    .flatMap((each) => (each.component === component && each.was !== null ? [each.was.digest] : []));
}

/** Everything that a tag has led to since a step. */
export function stoodSince(key: string, back: number, steps: Steps): Digest[] {
  return [...steps]
    .filter(([number]) => number > back)
    .flatMap(([, step]) => step.tags)
    .filter(({ repository, tag }) => tagKey(repository, tag) === key)
    .flatMap(({ is, was }) => [is, was])
    .flatMap((target) => (target === null ? [] : [target.digest]));
}
