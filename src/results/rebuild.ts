import * as z from 'zod';
import { digest } from './common';

export const rebuildResultSchema = z.strictObject({
  product: z.string(),
  ledger: z.string(),
  /** True where nothing was written: the document says what would have been. */
  dryRun: z.boolean(),
  entries: z.number().int(),
  releases: z.number().int(),
  environments: z.array(
    z.strictObject({
      environment: z.string(),
      serves: z.array(
        z.strictObject({ image: z.string(), digest, version: z.string().nullable(), commit: z.string() }),
      ),
    }),
  ),
  /** What the registries do not tell. */
  notRecovered: z.array(z.strictObject({ what: z.string(), detail: z.string() })),
});
export type RebuildResult = z.infer<typeof rebuildResultSchema>;
