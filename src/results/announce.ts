import * as z from 'zod';

export const announceResultSchema = z.strictObject({
  product: z.string(),
  receivers: z.array(
    z.strictObject({
      receiver: z.string(),
      /** Events that it took now. */
      delivered: z.number().int(),
      /** Why it was not told of everything; null where it was. */
      failed: z.string().nullable(),
    }),
  ),
});
export type AnnounceResult = z.infer<typeof announceResultSchema>;
