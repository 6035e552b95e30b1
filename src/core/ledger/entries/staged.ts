import * as z from 'zod';
import { commitSchema } from '../../commit';
import {
  stagedInLimit,
  type FactKey,
  type Facts,
  type StagedComponent,
  type StagedIn,
  type StagedPart,
} from '../facts';
import { placedComponentSchema, type PlacedComponent } from '../release';
import { defineAction } from './action';
import { factsOfRemovals, foldThereAgain } from './there-again';

const schema = z.object({
  kind: z.literal('staged'),
  commit: commitSchema,
  environment: z.string(),
  parts: z.array(placedComponentSchema),
});
type Staged = z.infer<typeof schema>;

/** Content is in the registry by digest; no tag points to it yet. */
export const staged = defineAction<Staged, typeof schema>('staged', {
  schema,
  reads: ({ commit, parts }) => [{ kind: 'staged', key: commit }, ...factsOfStagedIn(parts), ...factsOfRemovals(parts)],
  fold({ commit, parts }, _, before, after) {
    let known = before.get('staged', commit) ?? [];
    for (const { component, ...part } of parts) {
      const others = (stagedOf(known, component)?.parts ?? []).filter((each) => !replaces(part, each));
      known = withStaged(known, { component, parts: [...others, part] });
    }
    after.set('staged', commit, known);
    foldStagedIn(parts, before, after, (others, added) => {
      const replaced = (each: StagedIn): boolean =>
        each.commit === commit &&
        stagedOf(known, each.component)?.parts.every(({ digest }) => digest !== each.digest) === true;
      return [
        ...others.filter((each) => !replaced(each) && !added.some(({ digest }) => digest === each.digest)),
        ...added.map(({ component, digest, mediaType, size }) => ({ component, digest, mediaType, size, commit })),
      ].slice(-stagedInLimit);
    });
    foldThereAgain(parts, before, after);
  },
});

/** What was staged of a component. */
export function stagedOf(
  known: readonly StagedComponent[] | undefined,
  component: string,
): StagedComponent | undefined {
  return known?.find((each) => each.component === component);
}

/** What was staged, with one component changed or added. */
export function withStaged(known: readonly StagedComponent[], changed: StagedComponent): StagedComponent[] {
  return stagedOf(known, changed.component) === undefined
    ? [...known, changed]
    : known.map((each) => (each.component === changed.component ? changed : each));
}

/** What the facts of a commit say was staged of a component. */
export function stagedIn(facts: Facts, commit: string, component: string): StagedComponent | undefined {
  return stagedOf(facts.get('staged', commit), component);
}

/** Whether a part that is staged takes the place of another: it is for a platform of it, or both are for all. */
export function replaces(part: Pick<StagedPart, 'platforms'>, other: Pick<StagedPart, 'platforms'>): boolean {
  const shared = part.platforms.some((platform) => other.platforms.includes(platform));
  return shared || (part.platforms.length === 0 && other.platforms.length === 0);
}

/** The facts about what is staged in the repositories of some components. */
export function factsOfStagedIn(components: readonly PlacedComponent[]): FactKey[] {
  return [...new Set(components.map(({ repository }) => repository))].map((key) => ({ kind: 'staged-in', key }));
}

/** Takes what was published out of what is staged in its repositories. */
export function foldUnstaged(
  { commit, components }: { readonly commit: string; readonly components: readonly PlacedComponent[] },
  before: Facts,
  after: Facts,
): void {
  foldStagedIn(components, before, after, (all, own) =>
    all.filter((each) => each.commit !== commit || !own.some(({ component }) => component === each.component)),
  );
}

function foldStagedIn(
  components: readonly PlacedComponent[],
  before: Facts,
  after: Facts,
  change: (all: readonly StagedIn[], own: readonly PlacedComponent[]) => StagedIn[],
): void {
  for (const { key } of factsOfStagedIn(components)) {
    const all = before.get('staged-in', key) ?? [];
    const own = components.filter(({ repository }) => repository === key);
    const changed = change(all, own);
    if (changed.length !== all.length || changed.some((each, at) => each !== all[at])) {
      after.set('staged-in', key, changed);
    }
  }
}
