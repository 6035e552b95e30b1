import * as z from 'zod';
import { parseJson } from '../json';
import type { ContentNode } from '../oci/content';
import { digestSchema, sha256 } from '../oci/digest';
import { entrySchema, foldInto, type SealedEntry } from './entry';
import { Facts } from './facts';
import type { Timestamp } from '../time';
import type { TrustedSigners } from '../trust/signer';
import type { Verification } from '../trust/verify';
import { documentArtifact } from './record-artifact';
import { readRecord, verifyRecord, type ReadRecord } from './release-record';
import { verifyEntry } from './signed-entry';

/** The artifact type of what a parcel says of its releases, and the media type of its document (docs/parcels.md). */
export const parcelType = 'application/vnd.hod.parcel.v1+json';

const packedEntrySchema = z.object({ seq: z.number().int(), hash: digestSchema, text: z.string() });
/** An entry of the ledger, as it stands there. */
export type PackedEntry = z.infer<typeof packedEntrySchema>;

const leftOutSchema = z.object({
  /** The releases whose layers the other side has, in words. */
  releases: z.array(z.string()),
  blobs: z.array(z.object({ digest: digestSchema, size: z.number().int() })),
});
/** Layers that a parcel leaves out, because the other side has them. */
export type LeftOut = z.infer<typeof leftOutSchema>;

const documentSchema = z.object({
  product: z.string(),
  releases: z.array(z.unknown()),
  entries: z.array(packedEntrySchema),
  leftOut: leftOutSchema.optional(),
});

/** What a parcel says of the releases in it: their records, and the entries of the ledger that speak of them, as they stand there. */
export interface ParcelDocument {
  readonly product: string;
  readonly releases: readonly ReadRecord[];
  readonly entries: readonly PackedEntry[];
  readonly leftOut?: LeftOut | undefined;
}

/** What is written into a parcel: its releases as {@link recordDocument} returns them. */
export type PackedDocument = Omit<ParcelDocument, 'releases'> & { readonly releases: readonly object[] };

/** The part of an entry that a parcel holds. */
export function packedEntry({ entry: { seq }, hash, text }: SealedEntry): PackedEntry {
  return { seq, hash, text };
}

/** Makes the artifact that holds the document of a parcel. The same document gives the same bytes. */
export function parcelArtifact(document: PackedDocument): ContentNode {
  return documentArtifact(parcelType, document, undefined, `the parcel of ${document.product}`);
}

/** Reads the document of a parcel; undefined where it is none, or contradicts itself. */
export function parseParcelDocument(bytes: Uint8Array): ParcelDocument | undefined {
  const document = documentSchema.safeParse(parseJson(bytes)).data;
  const releases = (document?.releases ?? []).map((each) => readRecord(new TextEncoder().encode(JSON.stringify(each))));
  const read = releases.filter((each) => each !== undefined);
  return document === undefined || read.length < releases.length ? undefined : { ...document, releases: read };
}

/**
 * Checks who signed what a parcel says of a release: its record, and every entry of the ledger. That an entry was left out nobody
 * can check.
 *
 * @param now The keys must count now: nothing but the parcel says when they signed.
 */
export function verifyParcel(
  release: ReadRecord,
  { entries }: Pick<ParcelDocument, 'entries'>,
  trust: TrustedSigners,
  now: Timestamp,
): Verification {
  const found = verifyRecord(release, trust, now);
  for (const { seq, hash, text } of entries) {
    const entry = entrySchema.safeParse(parseJson(new TextEncoder().encode(text))).data;
    const verified = entry && verifyEntry({ entry, text }, trust, now);
    if (found.by !== undefined && (verified?.by === undefined || sha256(text) !== hash)) {
      return { problem: `entry ${seq} of the ledger in it: ${verified?.problem ?? 'it is not signed'}` };
    }
  }
  return found.by === undefined ? { problem: `its release record: ${found.problem}` } : found;
}

/**
 * Returns the facts that the entries in a parcel tell: where its releases came in on the other side, and what was recorded of them.
 * Undefined where an entry is not as its hash says, is of another product, or stands in the wrong place. The entries between are
 * not there: that none was left out nobody can check.
 */
export function factsOfParcel({ product, entries }: Pick<ParcelDocument, 'product' | 'entries'>): Facts | undefined {
  const facts = new Facts();
  let last = 0;
  for (const { seq, hash, text } of entries) {
    const entry = entrySchema.safeParse(parseJson(new TextEncoder().encode(text))).data;
    if (entry?.product !== product || entry.seq !== seq || seq <= last || sha256(text) !== hash) {
      return undefined;
    }
    foldInto(facts, entry);
    last = seq;
  }
  return facts;
}
