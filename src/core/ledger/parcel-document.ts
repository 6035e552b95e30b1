import { mediaTypes } from '../oci/media-types';
import { emptyConfig } from '../oci/bundle';
import { onePiece } from '../bytes';
import type { ContentNode } from '../oci/content';
import { sha256 } from '../oci/digest';
import { parseManifest } from '../oci/manifest';
import type { SealedEntry } from './entry';
import type { ReleaseRecord } from './release-record';

/** The artifact type of what a parcel says of its releases, and the media type of its document (docs/parcels.md). */
export const parcelType = 'application/vnd.hod.parcel.v1+json';

/** What a parcel says of the releases in it: their records, and the entries of the ledger that speak of them, as they stand there. */
export interface ParcelDocument {
  readonly product: string;
  readonly releases: readonly ReleaseRecord[];
  readonly entries: readonly { readonly seq: number; readonly hash: string; readonly text: string }[];
}

/** The part of an entry that a parcel holds. */
export function packedEntry({ entry: { seq }, hash, text }: SealedEntry): ParcelDocument['entries'][number] {
  return { seq, hash, text };
}

/** Makes the artifact that holds the document of a parcel. The same document gives the same bytes. */
export function parcelArtifact(document: ParcelDocument): ContentNode {
  const bytes = new TextEncoder().encode(JSON.stringify(document));
  const artifact = {
    schemaVersion: 2,
    mediaType: mediaTypes.manifest,
    artifactType: parcelType,
    config: {
      mediaType: emptyConfig.mediaType,
      digest: sha256(emptyConfig.bytes),
      size: emptyConfig.bytes.length,
    },
    layers: [{ mediaType: parcelType, digest: sha256(bytes), size: bytes.length }],
  };
  const label = `the parcel of ${document.product}`;
  const manifest = parseManifest(new TextEncoder().encode(JSON.stringify(artifact)), { label });
  const source = {
    label,
    readManifest: () => Promise.resolve(manifest.bytes),
    openBlob: ({ digest }: { digest: string }, from = 0) => {
      const whole = digest === sha256(emptyConfig.bytes) ? emptyConfig.bytes : bytes;
      return Promise.resolve(onePiece(whole.subarray(from)));
    },
  };
  return { manifest, source, children: [] };
}
