import * as z from 'zod';
import { digest } from './common';

export const showResultSchema = z.strictObject({
  reference: z.string(),
  repository: z.string().nullable(),
  digest,
  mediaType: z.string(),
  /** Of everything below it, each blob and manifest once. */
  size: z.number().int(),
  annotations: z.record(z.string(), z.string()),
  platforms: z.array(
    z.strictObject({
      platform: z.string(),
      digest,
      size: z.number().int(),
      layers: z.number().int(),
      revision: z.string().nullable(),
    }),
  ),
});
export type ShowResult = z.infer<typeof showResultSchema>;
