import type { Mention } from '../core/identify/mentions';
import { isRecordType, readRecord, type ReleaseRecord } from '../core/ledger/release-record';
import type { Digest } from '../core/oci/digest';
import { parseReference } from '../core/oci/reference';
import { readOwnRecords } from '../delivery/referrers/own-records';
import { readReference } from '../session/locate';
import type { Session } from '../session/session';

/** A reference, and the release records that refer to what it leads to. */
export interface RecordedReference {
  readonly mention: Mention;
  readonly digest: Digest;
  /** The latest first; each holds the digest as a component. */
  readonly records: readonly ReleaseRecord[];
}

/**
 * Finds out which release a reference is by the records in its registry: where there is no hod.yaml, and so no ledger. Who signed
 * them is not checked.
 *
 * @throws `image-missing`
 */
export async function identifyByRecords(mention: Mention, session: Session): Promise<RecordedReference> {
  const reference = parseReference(mention.text);
  const { digest } = (await readReference(session, reference)).manifest;
  const client = session.client(reference.repository);
  const listed = (await client.referrersOf(digest)).map(({ descriptor }) => descriptor);
  const records = (await readOwnRecords(client, listed, isRecordType))
    .flatMap(({ bytes }) => readRecord(bytes)?.record ?? [])
    .filter(({ components }) => components.some((each) => each.digest === digest))
    .sort((a, b) => b.published.localeCompare(a.published));
  return { mention, digest, records };
}
