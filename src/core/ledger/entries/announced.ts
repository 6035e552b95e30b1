import * as z from 'zod';
import { digestSchema } from '../../oci/digest';
import { defineAction } from './action';

const schema = z.object({
  kind: z.literal('announced'),
  /** Each receiver, and the last entry that it has been told of, or need not be told of. */
  receivers: z.array(z.object({ receiver: z.string(), seq: z.number().int(), hash: digestSchema.nullable() })),
});
type Announced = z.infer<typeof schema>;

/** Receivers were told of what the ledger says, up to an entry. */
export const announced = defineAction<Announced, typeof schema>('announced', {
  schema,
  reads: ({ receivers }) => receivers.map(({ receiver }) => ({ kind: 'announced', key: receiver })),
  fold({ receivers }, _circumstances, before, after) {
    for (const { receiver, seq, hash } of receivers) {
      if (seq >= (before.get('announced', receiver)?.seq ?? 0)) {
        after.set('announced', receiver, { seq, hash });
      }
    }
  },
});
