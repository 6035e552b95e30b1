import { describeDuration, formatMoment, formatPast } from '../../amounts';
import { grouped } from '../../grouped';
import type { AttestationRule } from '../../ledger/rules';
import { valueAt } from '../../json';
import { shortDigest, type Digest } from '../../oci/digest';
import type { PlatformImage } from '../../oci/content';
import { isInFuture, timestampOf, type Timestamp } from '../../time';
import type { Envelope } from '../../trust/dsse';
import { matchesText } from '../../trust/text-pattern';
import { isAbout, readStatement, timeOfStatement, type Statement } from '../../trust/statement';
import type { TrustRules } from '../../trust/trust-rules';
import { verifyEnvelope } from '../../trust/verify';

/** A signed document that refers to an image, or why it cannot be read. */
export interface SignedDocument {
  /** The digest of the referrer that holds it, and of the manifest that this refers to. */
  readonly referrer: Digest;
  readonly subject: Digest;
  readonly reading: { readonly envelope: Envelope } | { readonly problem: string };
}

/** A component that must be attested. */
export interface AttestedComponent {
  readonly component: string;
  readonly digest: Digest;
  /** The images in it, each for a platform. */
  readonly images: readonly PlatformImage[];
  readonly documents: readonly SignedDocument[];
}

/** Who is trusted, and when that is asked. */
export interface TrustNow {
  readonly trust: TrustRules;
  readonly now: Timestamp;
  /** When the ledger first knew of a referrer of a component; undefined where it does not yet. Its signature is as old at least. */
  readonly knownSince: (component: string, document: SignedDocument) => Timestamp | undefined;
}

/** What was found of the statements that a rule asks for: whose they are, or what is missing. */
export type AttestedFinding =
  | { readonly outcome: 'met'; readonly detail: string }
  | { readonly outcome: 'unmet'; readonly detail: readonly string[] };

/** So many reasons are told for an image. */
const reasonsTold = 3;

/** Looks for the signed statements that a rule asks for, component by component and image by image. */
export function findStatements(
  rule: AttestationRule,
  components: readonly AttestedComponent[],
  known: TrustNow,
): AttestedFinding {
  const found = components.map((each) => ({ component: each.component, ...lookAt(rule, each, known) }));
  const lacking = found.flatMap(({ lacks }) => lacks);
  if (lacking.length > 0) {
    return { outcome: 'unmet', detail: lacking };
  }
  const groups = grouped(found, ({ by }) => by);
  const [end] = found.flatMap(({ ends }) => ends).sort();
  return {
    outcome: 'met',
    detail: [
      ...groups.map((group) => {
        return `${group.map(({ component }) => component).join(', ')}: signed by ${group[0].by.join(' and ')}`;
      }),
      ...(end === undefined ? [] : [`counts until ${formatMoment(end)}`]),
    ].join('; '),
  };
}

/** Whose statements a component has, or what it lacks. */
function lookAt(
  rule: AttestationRule,
  component: AttestedComponent,
  known: TrustNow,
): { readonly by: readonly string[]; readonly ends: readonly Timestamp[]; readonly lacks: readonly string[] } {
  const { component: name, digest, images } = component;
  const whole = rule.each === 'platform' && images.length > 0 ? undefined : vouchedFor(rule, digest, component, known);
  if (whole?.by !== undefined) {
    return { by: [whole.by], ends: [whole.end ?? []].flat(), lacks: [] };
  }
  const each = images.map((image) => ({ ...image, ...vouchedFor(rule, image.digest, component, known) }));
  const lacks = each.flatMap(({ platform, problems }) => {
    return problems === undefined ? [] : problems.map((problem) => `${name} ${platform}: ${problem}`);
  });
  if (each.length > 0 && (rule.each === 'platform' || lacks.length === 0 || whole === undefined)) {
    const ends = each.flatMap(({ end }) => end ?? []);
    return { by: [...new Set(each.flatMap(({ by }) => by ?? []))], ends, lacks };
  }
  return { by: [], ends: [], lacks: (whole?.problems ?? []).map((problem) => `${name}: ${problem}`) };
}

type Vouched =
  | { readonly by: string; readonly end: Timestamp | undefined; readonly problems?: undefined }
  | { readonly by?: undefined; readonly end?: undefined; readonly problems: readonly string[] };

/** Whose statement is about a manifest, or why none counts. */
function vouchedFor(
  rule: AttestationRule,
  digest: Digest,
  { component, documents }: AttestedComponent,
  known: TrustNow,
): Vouched {
  const problems: string[] = [];
  for (const document of documents) {
    const at = earlier(known.knownSince(component, document), known.now);
    const judged = judgeDocument(rule, digest, document, { ...known, at });
    if (judged?.by !== undefined) {
      return { by: judged.by, end: judged.end };
    }
    if (judged !== undefined) {
      problems.push(`${shortDigest(document.referrer)}: ${judged.problem}`);
    }
  }
  const more = problems.length - reasonsTold;
  return {
    problems:
      problems.length === 0
        ? [`no signed statement of ${rule.type} is about ${shortDigest(digest)}`]
        : [...problems.slice(0, reasonsTold), ...(more > 0 ? [`and ${more} more do not count`] : [])],
  };
}

/** `end`: a statement that may be so old counts until then. */
type Judged =
  | { readonly by: string; readonly end: Timestamp | undefined; readonly problem?: undefined }
  | { readonly by?: undefined; readonly problem: string };

/** Whether a document is a statement that counts; undefined where it is of another type, and says nothing here. */
function judgeDocument(
  rule: AttestationRule,
  digest: Digest,
  { reading }: SignedDocument,
  { trust, now, at }: Pick<TrustNow, 'trust' | 'now'> & { readonly at: Timestamp },
): Judged | undefined {
  if ('problem' in reading) {
    return { problem: reading.problem };
  }
  const read = readStatement(reading.envelope);
  if ('problem' in read) {
    return read;
  }
  const { statement } = read;
  if (statement.predicateType !== rule.type) {
    return undefined;
  }
  if (!isAbout(statement, digest)) {
    return { problem: `its subject is not ${shortDigest(digest)}` };
  }
  const verified = verifyEnvelope(reading.envelope, trust, { names: rule.by, at });
  if (verified.by === undefined) {
    return verified;
  }
  const problem = problemOfFields(rule, statement) ?? problemOfAge(rule, statement, now);
  return problem === undefined
    ? { by: `${verified.by} (${verified.key})`, end: endOfStatement(rule, statement) }
    : { problem };
}

function earlier(seen: Timestamp | undefined, now: Timestamp): Timestamp {
  return seen !== undefined && seen < now ? seen : now;
}

function problemOfFields({ where }: AttestationRule, { document }: Statement): string | undefined {
  const wrong = where.find(({ field, values }) => {
    const value = valueAt(document, field);
    return !isPlain(value) || !values.some((each) => matchesText(each, String(value)));
  });
  if (wrong === undefined) {
    return undefined;
  }
  const value = valueAt(document, wrong.field);
  const found = isPlain(value) ? `is ${String(value)}` : value === undefined ? 'is missing' : 'is no single value';
  return `${wrong.field} ${found}; expected: ${wrong.values.join(' or ')}`;
}

function isPlain(value: unknown): value is string | number | boolean {
  return ['string', 'number', 'boolean'].includes(typeof value);
}

/** Until when a statement counts that may be so old. */
function endOfStatement(
  { noOlderThan, dated }: Pick<AttestationRule, 'noOlderThan' | 'dated'>,
  statement: Statement,
): Timestamp | undefined {
  const time = timeOfStatement(statement, dated);
  return noOlderThan === undefined || time === undefined
    ? undefined
    : timestampOf(new Date(Date.parse(time) + noOlderThan));
}

function problemOfAge(
  { noOlderThan, dated }: AttestationRule,
  statement: Statement,
  now: Timestamp,
): string | undefined {
  if (noOlderThan === undefined) {
    return undefined;
  }
  const time = timeOfStatement(statement, dated);
  if (time === undefined) {
    return dated === undefined
      ? 'the statement has no date; `dated: FIELD` in the rule can name the field that holds one'
      : `${dated} is not a time`;
  }
  if (isInFuture(time, now)) {
    return `the statement is dated ${formatMoment(time)}, in the future; check the clocks of this machine and of the signer`;
  }
  const end = endOfStatement({ noOlderThan, dated }, statement);
  return end !== undefined && Date.parse(end) < Date.parse(now)
    ? `the statement of ${formatMoment(time)} expired after ${describeDuration(noOlderThan)}, on ${formatPast(end, new Date(now))}`
    : undefined;
}

/** Who signed a document, by `trust:` in hod.yaml, or why that does not count; and its predicate type, where it is a statement. */
export interface DocumentSignature {
  readonly by: string | undefined;
  readonly detail: string;
  readonly predicateType: string | undefined;
}

/**
 * Tells who signed a document about a manifest.
 *
 * @param trust Undefined where nobody says whom to trust.
 * @param at When the keys must have counted.
 */
export function signatureUnder(
  { reading }: Pick<SignedDocument, 'reading'>,
  about: Digest,
  trust: TrustRules | undefined,
  at: Timestamp,
): DocumentSignature {
  if ('problem' in reading) {
    return { by: undefined, detail: reading.problem, predicateType: undefined };
  }
  const read = readStatement(reading.envelope);
  const predicateType = 'problem' in read ? undefined : read.statement.predicateType;
  if (trust === undefined) {
    return { by: undefined, detail: 'not checked: no hod.yaml here says whom to trust (`trust:`)', predicateType };
  }
  const { by, key, problem } = { key: '', ...verifyEnvelope(reading.envelope, trust, { at }) };
  const why =
    problem ??
    ('problem' in read ? read.problem : isAbout(read.statement, about) ? undefined : 'it is not about this manifest');
  return why === undefined ? { by, detail: key, predicateType } : { by: undefined, detail: why, predicateType };
}
