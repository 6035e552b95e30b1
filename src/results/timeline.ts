import * as z from 'zod';
import { eventKinds } from '../core/insight/timeline';

export const timelineResultSchema = z.strictObject({
  product: z.string(),
  /** The release whose life it is; null where it is the story of the product. */
  release: z.strictObject({ version: z.string().nullable(), commit: z.string() }).nullable(),
  /** Whether there are older events that are meant. */
  more: z.boolean(),
  /** The newest first; of a release, from its beginning. */
  events: z.array(
    z.strictObject({
      /** The number of the entry. */
      seq: z.number().int(),
      at: z.string(),
      /**
       * In the life of a release, `replaced`: something else took over; `withdrawn`: it was taken back; `returned`: it is served
       * again, as something else was taken back.
       */
      kind: z.enum([...eventKinds, 'replaced', 'withdrawn', 'returned']),
      environment: z.string().nullable(),
      version: z.string().nullable(),
      commit: z.string().nullable(),
      images: z.array(z.string()),
      actor: z.string(),
      /** Whether a token service checked who that is; else it is what somebody said. */
      proven: z.boolean(),
      detail: z.string(),
      /** Milliseconds since the event before, in the life of a release. */
      after: z.number().nullable(),
    }),
  ),
});
export type TimelineResult = z.infer<typeof timelineResultSchema>;
