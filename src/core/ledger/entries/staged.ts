import * as z from 'zod';
import { commitSchema } from '../../commit';
import type { Facts, StagedImage, StagedPart } from '../facts';
import { placedImageSchema } from '../release';
import { defineAction } from './action';

const schema = z.object({
  kind: z.literal('staged'),
  commit: commitSchema,
  environment: z.string(),
  parts: z.array(placedImageSchema),
});
type Staged = z.infer<typeof schema>;

/** Content is in the registry by digest; no tag points to it yet. */
export const staged = defineAction<Staged, typeof schema>('staged', {
  schema,
  reads: ({ commit }) => [{ kind: 'staged', key: commit }],
  fold({ commit, parts }, _, before, after) {
    let known = before.get('staged', commit) ?? [];
    for (const { image, ...part } of parts) {
      const others = (stagedOf(known, image)?.parts ?? []).filter((each) => !replaces(part, each));
      known = withStaged(known, { image, parts: [...others, part] });
    }
    after.set('staged', commit, known);
  },
});

/** What was staged of an image. */
export function stagedOf(known: readonly StagedImage[] | undefined, image: string): StagedImage | undefined {
  return known?.find((each) => each.image === image);
}

/** What was staged, with one image changed or added. */
export function withStaged(known: readonly StagedImage[], changed: StagedImage): StagedImage[] {
  return stagedOf(known, changed.image) === undefined
    ? [...known, changed]
    : known.map((each) => (each.image === changed.image ? changed : each));
}

/** What the facts of a commit say was staged of an image. */
export function stagedIn(facts: Facts, commit: string, image: string): StagedImage | undefined {
  return stagedOf(facts.get('staged', commit), image);
}

/** Whether a part that is staged takes the place of another: it is for a platform of it, or both are for all. */
export function replaces(part: Pick<StagedPart, 'platforms'>, other: Pick<StagedPart, 'platforms'>): boolean {
  const shared = part.platforms.some((platform) => other.platforms.includes(platform));
  return shared || (part.platforms.length === 0 && other.platforms.length === 0);
}
