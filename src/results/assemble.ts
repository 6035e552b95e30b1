import * as z from 'zod';
import { digest, tagResult, transferResult } from './common';

export const assembleResultSchema = z.strictObject({
  repository: z.string(),
  digest,
  mediaType: z.string(),
  members: z.array(
    z.strictObject({ platform: z.string(), digest, size: z.number().int(), revision: z.string().nullable() }),
  ),
  tags: z.array(tagResult),
  transfer: transferResult,
  dryRun: z.boolean(),
});
export type AssembleResult = z.infer<typeof assembleResultSchema>;
