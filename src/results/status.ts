import * as z from 'zod';
import { driftStates } from '../core/release/drift';
import { digest } from './common';

export const statusResultSchema = z.strictObject({
  /** Who is told of what happens, and what each was not told yet; counted through a thousand entries. */
  announcements: z.array(
    z.strictObject({ receiver: z.string(), undelivered: z.number().int(), since: z.string().nullable() }),
  ),
  product: z.string(),
  /** The record that this was read from, and how many entries it has. */
  ledger: z.strictObject({ place: z.string(), entries: z.number().int() }),
  environments: z.array(
    z.strictObject({
      environment: z.string(),
      images: z.array(
        z.strictObject({
          image: z.string(),
          repository: z.string(),
          version: z.string().nullable(),
          commit: z.string(),
          digest,
          since: z.string(),
          by: z.string(),
          drift: z.strictObject({ state: z.enum(driftStates), detail: z.string() }),
        }),
      ),
    }),
  ),
  /** What the images were built on, where they say so; null where it was not asked for. */
  bases: z
    .array(
      z.strictObject({
        environment: z.string(),
        image: z.string(),
        version: z.string().nullable(),
        commit: z.string(),
        platform: z.string(),
        name: z.string(),
        /** What it was when the image was built. */
        digest: z.string(),
        /** What its name leads to now; null where it leads to nothing, or that is not known. */
        now: z.string().nullable(),
        state: z.enum(['current', 'moved', 'unknown']),
        detail: z.string(),
      }),
    )
    .nullable(),
});
export type StatusResult = z.infer<typeof statusResultSchema>;
