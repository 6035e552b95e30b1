import type { Digest } from '../oci/digest';
import { stepKey, tagKey, type Facts, type ServedComponent, type Step } from '../ledger/facts';

/** Steps of an environment, by their numbers. */
export type Steps = ReadonlyMap<number, Step>;

/** A step that must be there. */
export function stepOf(facts: Facts, environment: string, number: number): Step {
  const step = facts.get('step', stepKey(environment, number));
  if (step === undefined) {
    throw new Error(`the step ${number} of ${environment} is not there`);
  }
  return step;
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

/** Those components that something happened to since a step: what is served of them then, and now. */
export function servedAfter(
  { back, last, steps }: Span,
  served: readonly ServedComponent[],
): { component: string; is: ServedComponent | null; was: ServedComponent | undefined }[] {
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

/** What stands somewhere after a rollback: what stood there then, or what came beside since. */
export function standing<O, V>(
  { back, last, steps }: Span,
  changes: (step: Step) => { key: string; of: O; is: V | null; was: V | null }[],
): { key: string; of: O; is: V | null }[] {
  const now = new Map<string, { key: string; of: O; is: V | null }>();
  for (let number = back + 1; number <= last; number += 1) {
    const step = steps.get(number);
    const stays = step?.back === undefined && step?.served.length === 0;
    for (const { key, of, is, was } of step === undefined ? [] : changes(step)) {
      if (stays) {
        now.set(key, { key, of, is });
      } else if (!now.has(key)) {
        now.set(key, { key, of, is: was });
      }
    }
  }
  return [...now.values()];
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
