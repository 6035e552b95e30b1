import * as z from 'zod';
import { defineAction } from './action';
import { knownReferrersSchema, factsOfReferrers, foldReferrers } from './known-referrers';

const schema = z.object({
  kind: z.literal('referrers'),
  environment: z.string(),
  referrers: knownReferrersSchema,
});
type LaterReferrersAction = z.infer<typeof schema>;

/** Referrers came into an environment later than their release. */
export const laterReferrers = defineAction<LaterReferrersAction, typeof schema>('referrers', {
  schema,
  reads: ({ referrers: list }) => factsOfReferrers(list),
  fold({ referrers: list }, circumstances, before, after) {
    foldReferrers(list, circumstances, before, after);
  },
});
