import * as z from 'zod';
import { defineAction } from './action';

const schema = z.object({
  kind: z.literal('entries-accepted'),
  /** The first and the last entry that nobody signed who is trusted. */
  from: z.number().int(),
  to: z.number().int(),
  reason: z.string(),
});
type EntriesAccepted = z.infer<typeof schema>;

/** Somebody looked at unsigned entries of a signed ledger, and accepts them. The entry counts where it is signed itself. */
export const entriesAccepted = defineAction<EntriesAccepted, typeof schema>('entries-accepted', {
  schema,
  reads: () => [],
  fold: () => undefined,
});
