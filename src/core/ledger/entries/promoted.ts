import * as z from 'zod';
import { defineAction } from './action';
import { releaseSetSchema } from '../release-set';
import { arrivalFields, factsOfArrival, foldArrival } from './arrival';

const schema = z.object({
  kind: z.literal('promoted'),
  ...arrivalFields,
  /** The environment that it came from. */
  from: z.string(),
  /** The releases of other products that came in with it; undefined where it came alone. */
  set: releaseSetSchema.optional(),
});
type Promoted = z.infer<typeof schema>;

/** A release came into an environment from the one before. */
export const promoted = defineAction<Promoted, typeof schema>('promoted', {
  schema,
  reads: factsOfArrival,
  fold(action, circumstances, before, after) {
    foldArrival(action, circumstances, before.get('release', action.release), { before, after });
  },
});
