import * as z from 'zod';
import { commitSchema } from '../../commit';
import type { Facts, StagedComponent, StagedPart } from '../facts';
import { placedComponentSchema } from '../release';
import { defineAction } from './action';

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
  reads: ({ commit }) => [{ kind: 'staged', key: commit }],
  fold({ commit, parts }, _, before, after) {
    let known = before.get('staged', commit) ?? [];
    for (const { component, ...part } of parts) {
      const others = (stagedOf(known, component)?.parts ?? []).filter((each) => !replaces(part, each));
      known = withStaged(known, { component, parts: [...others, part] });
    }
    after.set('staged', commit, known);
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
