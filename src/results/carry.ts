import * as z from 'zod';
import type { CarriedImage } from '../delivery/carry-images';
import { digest, tagResult, toTagResult, transferResult } from './common';

export const carryResultSchema = z.strictObject({
  /** The repository that everything was carried into. */
  repository: z.string(),
  images: z.array(
    z.strictObject({
      /** As it was named. */
      from: z.string(),
      digest,
      mediaType: z.string(),
      /** Bytes of the manifest. */
      size: z.number().int(),
      /** What kind of artifact it is; null of an image. */
      artifactType: z.string().nullable(),
      platforms: z.array(z.string()),
      /** The tag that leads to it; empty where none was named and it had none. */
      tags: z.array(tagResult),
      /** Its referrers: carried now, there before, and tags beside it that stand for something else there and were left alone. */
      referrers: z.strictObject({
        brought: z.number().int(),
        present: z.number().int(),
        left: z.array(z.string()),
      }),
      transfer: transferResult.omit({ requests: true }),
    }),
  ),
  /** Requests to the repository that everything was carried into. */
  requests: z.number().int(),
  dryRun: z.boolean(),
});
export type CarryResult = z.infer<typeof carryResultSchema>;

/** What was carried, or would be, as a document. */
export function toCarryResult(
  { target, images }: { target: { label: string; requests: number }; images: readonly CarriedImage[] },
  { dryRun }: { dryRun: boolean },
): CarryResult {
  return {
    repository: target.label,
    images: images.map(({ from, digest: own, mediaType, size, artifactType, platforms, decision, ...rest }) => ({
      ...{ from, digest: own, mediaType, size, artifactType: artifactType ?? null, platforms: [...platforms] },
      tags: decision === undefined ? [] : [toTagResult(decision)],
      referrers: { ...rest.referrers, left: [...rest.referrers.left] },
      transfer: { ...rest.transfer },
    })),
    requests: target.requests,
    dryRun,
  };
}
