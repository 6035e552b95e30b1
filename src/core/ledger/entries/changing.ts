import { servedIn } from '../environment';
import { laneKey, tagKey, type Changes, type Fact, type Facts, type LaneHead, type ServedComponent } from '../facts';

/** What becomes of a component somewhere; null where nothing is there any more. */
interface Change<T> {
  readonly component: string;
  readonly is: T | null;
}

/** The facts before an entry, and those that it sets. */
export interface FactChange {
  readonly before: Facts;
  readonly after: Facts;
}

/** The number of the step that comes next in an environment. */
export function nextStepNumber(environment: string, before: Facts): number {
  return (before.get('environment', environment)?.steps ?? 0) + 1;
}

/**
 * Changes what an environment serves, which is a step of it. Answers what was served before.
 *
 * `from`: where its releases come from, from now on; what was known of that stays where it is not given. `lanes`: those that
 * a moving tag follows, beside those that were known. `tags`: what became of moving tags.
 */
export function changeServed(
  environment: string,
  changes: readonly Change<ServedComponent>[],
  { before, after }: FactChange,
  {
    tags,
    from = before.get('environment', environment)?.from,
    lanes = [],
  }: Pick<Changes, 'tags'> & Pick<Fact<'environment'>, 'from'> & { readonly lanes?: readonly string[] },
): Changes['served'] {
  const components = servedIn(before, environment);
  const { places } = before.get('environment', environment) ?? {};
  const moved = new Set(tags.map(({ repository, tag }) => tagKey(repository, tag)));
  const gone = (before.get('environment', environment)?.gone ?? []).filter(
    ({ repository, tag }) => !moved.has(tagKey(repository, tag)),
  );
  const removed = tags.filter(({ is }) => is === null);
  const now = replaced(components, changes);
  const ever = [...(before.get('environment', environment)?.once ?? []), ...components.map((each) => each.component)];
  after.set('environment', environment, {
    gone: [...gone, ...removed.map(({ component, repository, tag }) => ({ component, repository, tag }))],
    steps: nextStepNumber(environment, before),
    once: [...new Set(ever)].filter((name) => ofComponent(now, name) === null),
    components: now,
    from,
    ...(places === undefined ? {} : { places }),
    lanes: [...new Set([...(before.get('environment', environment)?.lanes ?? []), ...lanes])],
  });
  return changes.map(({ component }) => ({ component, was: ofComponent(components, component) }));
}

/** Changes the heads of a lane. Answers what stood there before. */
export function changeLane(
  environment: string,
  lane: string,
  changes: readonly Change<LaneHead>[],
  { before, after }: FactChange,
): Changes['lanes'] {
  const key = laneKey(environment, lane);
  const heads = before.get('lane', key) ?? [];
  after.set('lane', key, replaced(heads, changes));
  return changes.map(({ component, is }) => ({ lane, component, is, was: ofComponent(heads, component) }));
}

/** What stands for each component, with some of it changed: in its place, or behind all others where it is new. */
function replaced<T extends { readonly component: string }>(all: readonly T[], changes: readonly Change<T>[]): T[] {
  const added = changes.filter(({ component }) => ofComponent(all, component) === null);
  const there = all.map((each) => changes.find(({ component }) => component === each.component) ?? { is: each });
  return [...there, ...added].flatMap(({ is }) => (is === null ? [] : [is]));
}

function ofComponent<T extends { readonly component: string }>(all: readonly T[], component: string): T | null {
  return all.find((each) => each.component === component) ?? null;
}
