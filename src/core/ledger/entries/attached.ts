import * as z from 'zod';
import { defineAction } from './action';
import { attachedSchema, factsOfAttached, foldAttached } from './attaching';

const schema = z.object({
  kind: z.literal('attached'),
  environment: z.string(),
  attached: attachedSchema,
});
type AttachedAction = z.infer<typeof schema>;

/** Something came along into an environment later than the release that it belongs to. */
export const attached = defineAction<AttachedAction, typeof schema>('attached', {
  schema,
  reads: ({ attached: list }) => factsOfAttached(list),
  fold({ attached: list }, _circumstances, before, after) {
    foldAttached(list, before, after);
  },
});
