import * as z from 'zod';
import { digest, tagResult, transferResult } from './common';

export const assembleResultSchema = z.strictObject({
  repository: z.string(),
  digest,
  mediaType: z.string(),
  members: z.array(
    z.strictObject({ platform: z.string(), digest, size: z.number().int(), revision: z.string().nullable() }),
  ),
  /** How many entries it has that are no images, such as attestations of them. */
  companions: z.number().int(),
  /** The index that was changed; null where none was. `tags` still lead to what it was; `allTags` is false where there were too many to ask for, or they may not be listed. */
  changed: z.strictObject({ from: z.string(), digest, tags: z.array(z.string()), allTags: z.boolean() }).nullable(),
  tags: z.array(tagResult),
  transfer: transferResult,
  dryRun: z.boolean(),
});
export type AssembleResult = z.infer<typeof assembleResultSchema>;
