import * as z from 'zod';
import { contentKinds, kindOf } from '../core/oci/bundle';
import { sizeOf } from '../core/oci/content';
import { typeOf } from '../core/oci/referrers';
import type { Parcel } from '../delivery/parcel';
import { digest } from './common';

export const packResultSchema = z.strictObject({
  /** The file or folder that was written. */
  place: z.string(),
  form: z.enum(['tar', 'folder']),
  /** True where nothing was written: the document says what would have been. */
  dryRun: z.boolean(),
  /** Of a release; null where images were named. */
  product: z.string().nullable(),
  releases: z.array(z.strictObject({ version: z.string().nullable(), commit: z.string() })),
  /** What can be chosen in the layout, by its name. */
  contents: z.array(
    z.strictObject({
      name: z.string(),
      kind: z.enum(contentKinds),
      artifactType: z.string().nullable(),
      digest,
      mediaType: z.string(),
      /** Bytes of its manifests and blobs. */
      size: z.number().int(),
    }),
  ),
  /** How many referrers are in it, release records among them. */
  referrers: z.number().int(),
  /** How many entries of the ledger are in it. */
  ledgerEntries: z.number().int(),
  /** Manifests and blobs, each once. */
  blobs: z.number().int(),
  /** Bytes of all files in it. */
  size: z.number().int(),
  /** Layers that the other side has, and that are not in it; null without --since. */
  leftOut: z
    .strictObject({
      /** The releases that the other side has, by version or commit. */
      releases: z.array(z.string()),
      blobs: z.number().int(),
      /** Bytes. */
      size: z.number().int(),
    })
    .nullable(),
  /** Bytes that were there already, of a run that ended. */
  kept: z.number().int(),
});
export type PackResult = z.infer<typeof packResultSchema>;

/** What was packed, or would be, as a document. */
export function toPackResult(
  about: Pick<PackResult, 'place' | 'form' | 'product' | 'dryRun' | 'kept' | 'blobs' | 'size'>,
  { releases, contents, referrers, ledgerEntries, leftOut }: Parcel,
): PackResult {
  return {
    ...{ ...about, referrers, ledgerEntries },
    leftOut:
      leftOut === undefined
        ? null
        : {
            releases: leftOut.releases,
            blobs: leftOut.blobs.length,
            size: leftOut.blobs.reduce((sum, { size }) => sum + size, 0),
          },
    product: releases.length === 0 ? null : about.product,
    releases: releases.map(({ version = null, commit }) => ({ version, commit })),
    contents: contents.map(({ name, node }) => {
      const kind = kindOf(node.manifest);
      const { digest: own, mediaType } = node.manifest;
      const artifactType = kind === 'image' ? null : typeOf(node.manifest);
      return { name, kind, artifactType, digest: own, mediaType, size: sizeOf(node) };
    }),
  };
}
