import * as z from 'zod';
import { issuesToText, mapOf, readJson, valueAt } from '../json';
import type { Digest } from '../oci/digest';
import { readTime, type Timestamp } from '../time';
import type { SignedPayload } from './dsse';

/** What an envelope holds where its payload is a statement (in-toto attestation framework, "envelope"). */
export const statementPayloadType = 'application/vnd.in-toto+json';
/** The forms of statements: that of today, and the one before it, which has the same fields. */
const statementTypes = ['https://in-toto.io/Statement/v1', 'https://in-toto.io/Statement/v0.1'] as const;

/** Something that is said about content (in-toto Statement v1). */
export interface Statement {
  readonly predicateType: string;
  /** The digests that it is about, as `algorithm:hex`. */
  readonly subjects: readonly string[];
  /** All of it, for rules that ask for its fields. */
  readonly document: Readonly<Record<string, unknown>>;
}

const statementSchema = z.object({
  _type: z.enum(statementTypes, 'is not an in-toto Statement'),
  subject: z.array(z.object({ digest: mapOf(z.string()) })).min(1, 'is empty'),
  predicateType: z.string().min(1),
});

/** Reads the statement that an envelope holds, or says why that holds none. */
export function readStatement({
  payloadType,
  payload,
}: SignedPayload): { readonly statement: Statement } | { readonly problem: string } {
  if (payloadType !== statementPayloadType) {
    return { problem: `its payload type is ${payloadType}; a statement has ${statementPayloadType}` };
  }
  const { object, problem } = readJson(payload);
  if (object === undefined) {
    return { problem: `the statement: ${problem}` };
  }
  const parsed = statementSchema.safeParse(object);
  if (!parsed.success) {
    return { problem: `the statement: ${issuesToText(parsed.error)}` };
  }
  const { subject, predicateType } = parsed.data;
  const subjects = subject.flatMap(({ digest }) => [...digest].map(([algorithm, hex]) => `${algorithm}:${hex}`));
  return { statement: { predicateType, subjects, document: object } };
}

/** Content that a statement is about, and what people call it. */
export interface NamedSubject {
  readonly name: string;
  readonly digest: Digest;
}

/** Returns a statement as it is signed. The same parts give the same bytes. */
export function statementPayload(
  predicateType: string,
  predicate: object,
  subjects: readonly NamedSubject[],
): SignedPayload {
  const subject = subjects.map(({ name, digest }) => {
    const [algorithm = '', hex = ''] = digest.split(':');
    return { name, digest: { [algorithm]: hex } };
  });
  const document = { _type: statementTypes[0], subject, predicateType, predicate };
  return { payloadType: statementPayloadType, payload: Buffer.from(JSON.stringify(document)) };
}

/** Whether a statement is about some content. */
export function isAbout({ subjects }: Statement, digest: Digest): boolean {
  return subjects.some((subject) => subject.toLowerCase() === digest);
}

/** Where predicates that are public standards say when what they tell of was done. */
const usualTimes = [
  'predicate.runDetails.metadata.finishedOn',
  'predicate.metadata.buildFinishedOn',
  'predicate.metadata.scanFinishedOn',
  'predicate.metadata.timestamp',
  'predicate.creationInfo.created',
  'predicate.timeVerified',
  'predicate.timestamp',
];

/**
 * Returns the time of a statement; undefined where it tells none, or none that is a time.
 *
 * @param dated The field that holds it; where undefined, the places that usual predicates have it in.
 */
export function timeOfStatement({ document }: Statement, dated: string | undefined): Timestamp | undefined {
  const [found] = (dated === undefined ? usualTimes : [dated]).flatMap((path) => {
    const value = valueAt(document, path);
    return typeof value === 'string' ? (readTime(value) ?? []) : [];
  });
  return found;
}
