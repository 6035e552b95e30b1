import * as z from 'zod';
import { parseJson } from '../json';
import type { ContentNode } from '../oci/content';
import type { Manifest } from '../oci/manifest';
import { timestampSchema } from '../time';
import { documentArtifact } from './record-artifact';
import { isRecordType } from './release-record';
import { releaseIdSchema } from './release';

/** The artifact type of a rollback record, and the media type of its document (docs/referrers.md). */
export const rollbackType = 'application/vnd.hod.rollback.v1+json';

const rollbackRecordSchema = z.object({
  product: z.string(),
  environment: z.string(),
  at: timestampSchema,
  /** The line of versions or the branch that was rolled back alone. */
  lane: z.string().optional(),
  /** The releases that were withdrawn. */
  withdrawn: z.array(releaseIdSchema).min(1),
  /** The release that is served again, or is the newest of the lane again; none where nothing was there before. */
  to: releaseIdSchema.optional(),
});

/** What a registry tells of a rollback by itself. Who did it, and why, is not in it: registries may be public. */
export type RollbackRecord = z.infer<typeof rollbackRecordSchema>;

/** Whether artifacts of a type are records that Hod keeps in a registry: they belong to one place, and are not carried to others. */
export function isOwnRecord(type: string | undefined): boolean {
  return isRecordType(type) || type === rollbackType;
}

/** Makes the artifact that holds a rollback record and refers to the manifest of a component that was withdrawn. */
export function rollbackArtifact(record: RollbackRecord, subject: Manifest): ContentNode {
  return documentArtifact(rollbackType, record, subject, `the record of a rollback of ${record.environment}`);
}

/** Reads the document of a rollback record; undefined where it is none, or one that this Hod does not know. */
export function readRollbackRecord(bytes: Uint8Array): RollbackRecord | undefined {
  return rollbackRecordSchema.safeParse(parseJson(bytes)).data;
}
