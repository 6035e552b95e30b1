import * as z from 'zod';
import { commitSchema } from '../commit';
import { parseJson } from '../json';
import type { ContentNode } from '../oci/content';
import { digestSchema } from '../oci/digest';
import type { Manifest } from '../oci/manifest';
import { versionSchema } from '../tags/version';
import { timestampSchema, type Timestamp } from '../time';
import type { Release } from './facts';
import { envelopeDocument, readEnvelope, signedBytes, type Envelope, type SignedPayload } from '../trust/dsse';
import type { RecordSigner, TrustedSigners } from '../trust/signer';
import { readStatement, statementPayload } from '../trust/statement';
import { verifyEnvelope, type Verification } from '../trust/verify';
import { documentArtifact } from './record-artifact';
import { releaseId, releaseIdSchema } from './release';

/** The artifact type of an unsigned release record, and the media type of its document (docs/referrers.md). */
export const recordType = 'application/vnd.hod.release.v1+json';
/** The artifact type of a signed one: an envelope of DSSE that holds a statement of in-toto. */
export const signedRecordType = 'application/vnd.hod.release.v1.dsse+json';
/** The predicate type of a statement whose predicate is a release record. */
export const releasePredicate = 'urn:hod:release:v1';

/** Whether artifacts of a type are release records. */
export function isRecordType(type: string | undefined): boolean {
  return type === recordType || type === signedRecordType;
}

const recordSchema = z.object({
  product: z.string(),
  /** The id of the release: a hash of what makes it the one it is. */
  release: releaseIdSchema,
  version: versionSchema.optional(),
  commit: commitSchema,
  branch: z.string().optional(),
  /** The build was of a pull request. */
  pullRequest: z.literal(true).optional(),
  /** The number that the CI gave to the build, and where its run can be looked at. */
  build: z.string().optional(),
  run: z.string().optional(),
  published: timestampSchema,
  components: z.array(
    z.object({
      component: z.string(),
      digest: digestSchema,
      mediaType: z.string(),
      size: z.number().int(),
      platforms: z.array(z.string()),
    }),
  ),
  /** Every component that the product had then, where the release holds only some of them. */
  lists: z.array(z.string()).optional(),
});

/** What a registry tells of a release by itself. Who published it is not in it: registries may be public. */
export type ReleaseRecord = z.infer<typeof recordSchema>;

/** The record of a release. */
function recordOf(
  product: string,
  { release, version, commit, branch, branches, build, run, at, components, lists }: Release,
): ReleaseRecord {
  // The name of a pull request is no branch.
  const isBranch = branch === undefined || branches.includes(branch);
  return {
    product,
    release,
    version,
    commit,
    branch,
    pullRequest: isBranch ? undefined : true,
    build,
    run,
    published: at,
    components: components
      .map(({ component, digest, mediaType, size, platforms }) => ({ component, digest, mediaType, size, platforms }))
      .sort((a, b) => (a.component < b.component ? -1 : 1)),
    lists: lists && [...lists].sort(),
  };
}

/** Returns the statement that a signed release record holds: about every component, and every image in it. */
function recordStatement(product: string, release: Release): SignedPayload {
  const { components, images = [] } = release;
  const subjects = components.flatMap(({ component, digest }) => [
    { name: component, digest },
    ...images
      .filter((image) => image.component === component && image.digest !== digest)
      .map((image) => ({ name: `${component} ${image.platform}`, digest: image.digest })),
  ]);
  return statementPayload(releasePredicate, recordOf(product, release), subjects);
}

/**
 * Signs the record of a release. Returns the signature, in base64.
 *
 * @throws `signing-failed`
 */
export function signRecord(product: string, release: Release, signer: RecordSigner): Promise<string> {
  return signer.sign(signedBytes(recordStatement(product, release)));
}

/** Returns a release record as registries and parcels hold it: signed, where it was published so. */
export function recordDocument(product: string, release: Release): object {
  const { recordSignature } = release;
  return recordSignature === undefined
    ? recordOf(product, release)
    : envelopeDocument(recordStatement(product, release), recordSignature);
}

/**
 * Makes the artifact that holds a release record and refers to the manifest of a component. Every run makes the same bytes of the
 * same release and manifest.
 */
export function recordArtifact(product: string, release: Release, subject: Manifest): ContentNode {
  const { version, commit, recordSignature } = release;
  const type = recordSignature === undefined ? recordType : signedRecordType;
  const label = `the record of ${product} ${version ?? commit}`;
  return documentArtifact(type, recordDocument(product, release), subject, label);
}

/** A release record that was read; `envelope`: what it was signed with, undefined where it is not signed. */
export interface ReadRecord {
  readonly record: ReleaseRecord;
  readonly envelope: Envelope | undefined;
}

/**
 * Reads a release record, signed or not; undefined where it is none, one that this Hod does not know, or one whose release
 * has another id than its content says. Signatures are not checked: {@link verifyRecord}.
 */
export function readRecord(bytes: Uint8Array): ReadRecord | undefined {
  const read = readEnvelope(bytes);
  if (!('envelope' in read)) {
    const record = checkedRecord(parseJson(bytes));
    return record && { record, envelope: undefined };
  }
  const { envelope } = read;
  const said = readStatement(envelope);
  if ('problem' in said || said.statement.predicateType !== releasePredicate) {
    return undefined;
  }
  const record = checkedRecord(said.statement.document['predicate']);
  return record && { record, envelope };
}

function checkedRecord(document: unknown): ReleaseRecord | undefined {
  const { data } = recordSchema.safeParse(document);
  return data !== undefined && releaseId({ ...data, version: data.version }) === data.release ? data : undefined;
}

/**
 * Checks who signed a release record.
 *
 * @param at When the keys must have counted.
 */
export function verifyRecord({ envelope }: ReadRecord, trust: TrustedSigners, at: Timestamp): Verification {
  return envelope === undefined ? { problem: 'it is not signed' } : verifyEnvelope(envelope, trust, { at });
}

/** Checks who signed the record of a release that a ledger knows. */
export function verifyReleaseRecord(product: string, release: Release, trust: TrustedSigners): Verification {
  const { recordSignature, at } = release;
  const signatures = recordSignature === undefined ? [] : [{ signature: Buffer.from(recordSignature, 'base64') }];
  return signatures.length === 0
    ? { problem: 'it is not signed' }
    : verifyEnvelope({ ...recordStatement(product, release), signatures }, trust, { at });
}

/** Returns the signature under a record, as a ledger keeps it; undefined where it is not signed. */
export function signatureOf({ envelope }: ReadRecord): string | undefined {
  const [first] = envelope?.signatures ?? [];
  return first && Buffer.from(first.signature).toString('base64');
}
