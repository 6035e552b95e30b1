import * as z from 'zod';
import { sizeOf } from '../core/oci/content';
import { platformKey } from '../core/oci/platform';
import type { Assembled } from '../delivery/assemble';
import { digest, tagResult, toTagResult, transferResult } from './common';

export const assembleResultSchema = z.strictObject({
  repository: z.string(),
  digest,
  mediaType: z.string(),
  members: z.array(
    z.strictObject({ platform: z.string(), digest, size: z.number().int(), revision: z.string().nullable() }),
  ),
  /** One image or index was named, and is there as it is: nothing was assembled. */
  kept: z.boolean(),
  /** How many entries it has that are no images, such as attestations of them. */
  companions: z.number().int(),
  /** The index that was changed; null where none was. `tags` still lead to what it was; `allTags` is false where there were too many to ask for, or they may not be listed. */
  changed: z.strictObject({ from: z.string(), digest, tags: z.array(z.string()), allTags: z.boolean() }).nullable(),
  tags: z.array(tagResult),
  transfer: transferResult,
  dryRun: z.boolean(),
});
export type AssembleResult = z.infer<typeof assembleResultSchema>;

/** An index that was made, or would be, as a document. */
export function toAssembleResult(
  { target, index: { node, members }, isKept, companions, changed, decision, transfer }: Assembled,
  { dryRun }: { dryRun: boolean },
): AssembleResult {
  return {
    repository: target.label,
    digest: node.manifest.digest,
    mediaType: node.manifest.mediaType,
    members: members.map((member) => ({
      platform: platformKey(member.platform),
      digest: member.manifest.digest,
      size: sizeOf(member.node),
      revision: member.revision ?? null,
    })),
    kept: isKept,
    companions,
    changed: changed === undefined ? null : { ...changed, tags: [...changed.tags] },
    tags: decision === undefined ? [] : [toTagResult(decision)],
    transfer: { ...transfer, requests: target.requests },
    dryRun,
  };
}
