import * as z from 'zod';
import { commitSchema } from '../../commit';
import { defineAction } from './action';
import { stagedOf, withStaged } from './staged';

const schema = z.object({
  kind: z.literal('failed'),
  commit: commitSchema,
  images: z.array(z.string()),
  reason: z.string(),
});
type Failed = z.infer<typeof schema>;

/** A build ended without all of its outputs. */
export const failed = defineAction<Failed, typeof schema>('failed', {
  schema,
  reads: ({ commit }) => [{ kind: 'staged', key: commit }],
  fold({ commit, images, reason }, { at, actor }, before, after) {
    const mark = { reason, at, by: actor };
    const known = before.get('staged', commit) ?? [];
    const marked = images.reduce(
      (all, image) => withStaged(all, { image, parts: stagedOf(all, image)?.parts ?? [], failed: mark }),
      [...known],
    );
    after.set('staged', commit, marked);
  },
});
