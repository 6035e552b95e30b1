import * as z from 'zod';
import { commitSchema } from '../../commit';
import { defineAction } from './action';
import { stagedOf, withStaged } from './staged';

const schema = z.object({
  kind: z.literal('failed'),
  commit: commitSchema,
  components: z.array(z.string()),
  reason: z.string(),
});
type Failed = z.infer<typeof schema>;

/** A build ended without all of its outputs. */
export const failed = defineAction<Failed, typeof schema>('failed', {
  schema,
  reads: ({ commit }) => [{ kind: 'staged', key: commit }],
  fold({ commit, components, reason }, { at, actor }, before, after) {
    const mark = { reason, at, by: actor };
    const known = before.get('staged', commit) ?? [];
    const marked = components.reduce(
      (all, component) => withStaged(all, { component, parts: stagedOf(all, component)?.parts ?? [], failed: mark }),
      [...known],
    );
    after.set('staged', commit, marked);
  },
});
