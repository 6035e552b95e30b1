import type { ContentNode } from '../oci/content';
import type { SealedEntry } from './entry';
import { documentArtifact } from './record-artifact';
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
  return documentArtifact(parcelType, document, undefined, `the parcel of ${document.product}`);
}
