import * as z from 'zod';
import { HodError } from '../errors';
import { issuesToText, parseJson } from '../json';
import { digestSchema, sha256, type Digest } from '../oci/digest';
import { timestampSchema, type Timestamp } from '../time';
import type { RecordSigner } from '../trust/signer';
import { actionSchema, foldAction } from './entries';
import { countedKinds, stateKey, type FactCounts, type Facts, type StoredFact } from './facts';

/** An entry of the ledger. Entries are only ever added. */
export const entrySchema = z.object({
  product: z.string(),
  /** 1 for the first entry of a product, and one more for each that follows. */
  seq: z.number().int().positive(),
  /** The hash of the entry before; null in the first. */
  previous: digestSchema.nullable(),
  at: timestampSchema,
  /** Who did it: a person or a job. */
  actor: z.string(),
  /** Their identity was checked in that run, by a token service; else it is what somebody said. */
  proven: z.literal(true).optional(),
  action: actionSchema,
  /** The signature over the entry without it, in base64 ({@link signedEntryAfter}). */
  signature: z.string().optional(),
});

export type Entry = z.infer<typeof entrySchema>;

/** Who does something, whether that was checked, and what signs the entries that say so. */
export interface Actor {
  readonly name: string;
  readonly proven: boolean;
  /** The issuer under `trust:` whose keys verified that; undefined where it was somebody else, or nobody. */
  readonly issuer?: string | undefined;
  /** Undefined where hod.yaml names no key to sign with. */
  readonly signer: RecordSigner | undefined;
}

/** What an entry says of who made it. */
export function madeBy({ name, proven }: Pick<Actor, 'name' | 'proven'>): Pick<Entry, 'actor' | 'proven'> {
  return { actor: name, proven: proven || undefined };
}

/** The last entry of a product, as one that follows must name it. `seq` is 0 before the first. */
export interface Head {
  seq: number;
  hash: Digest | null;
}

/** Where in a ledger somebody begins to read: after a head; or after an entry whose hash is not known, and is taken as the next one names it. */
export type After = Head | { readonly seq: number; readonly hash: undefined };

/** The head of a ledger without entries. */
export const emptyHead: Head = { seq: 0, hash: null };

/** What stays of an entry whose text was moved into a file. */
export interface CompactedEntry {
  readonly seq: number;
  readonly hash: Digest;
}

/** An entry as it is stored: its exact text, and the hash of that text. */
export interface StoredEntry {
  text: string;
  hash: Digest;
}

/** An entry beside the form in which it is stored. This, and never a copy made from the parsed form, is kept. */
export interface SealedEntry extends StoredEntry {
  entry: Entry;
}

/** The head of a ledger that ends with an entry. */
export function headAfter({ entry, hash }: SealedEntry): Head {
  return { seq: entry.seq, hash };
}

/** Seals an entry by its text; the next entry names the hash of that. */
function sealEntry(text: string): SealedEntry {
  // As it will be read: what is folded now and what is folded from the stored text must be the same.
  const entry = entrySchema.parse(JSON.parse(text));
  return { entry, text, hash: sha256(text) };
}

/** The form in which an entry that follows a head is stored; a signature stands at its end. */
export function entryText(head: Head, entry: Omit<Entry, 'seq' | 'previous'>): string {
  const { product, at, actor, proven, action, signature } = entry;
  return JSON.stringify({ product, seq: head.seq + 1, previous: head.hash, at, actor, proven, action, signature });
}

/** The entry that follows a head, as it is stored: unsigned, unless it holds a signature. */
export function entryAfter(head: Head, entry: Omit<Entry, 'seq' | 'previous'>): SealedEntry {
  return sealEntry(entryText(head, entry));
}

/**
 * Reads a stored entry back and checks that it follows `before`. Throws a `corrupt` error if its
 * text was changed or an entry is missing before it.
 */
export function openEntry(stored: StoredEntry, before: After): SealedEntry {
  const corrupt = (why: string): HodError => changedOutside(before.seq + 1, why);
  if (sha256(stored.text) !== stored.hash) {
    throw corrupt('its text does not have its hash');
  }
  const parsed = entrySchema.safeParse(parseJson(new TextEncoder().encode(stored.text)));
  if (!parsed.success) {
    throw corrupt(issuesToText(parsed.error));
  }
  const follows = before.hash === undefined || parsed.data.previous === before.hash;
  if (parsed.data.seq !== before.seq + 1 || !follows) {
    throw corrupt('it does not follow the entry before it');
  }
  return { entry: parsed.data, text: stored.text, hash: stored.hash };
}

/** The error for an entry that is not as it was written. */
export function changedOutside(seq: number, why: string): HodError {
  return new HodError('ledger-entry-corrupt', {
    what: 'the ledger was changed outside Hod',
    object: `entry ${seq}`,
    why,
    next: 'restore the ledger from its backup',
  });
}

const endSchema = z.strictObject({ end: z.strictObject({ seq: z.number().int(), hash: digestSchema.nullable() }) });

/** The last line of a copy of a ledger: the head that its entries lead to. */
export function endLine({ seq, hash }: Head): string {
  return JSON.stringify({ end: { seq, hash } });
}

/** The head that a last line of a copy names; undefined where the line is none. */
export function readEndLine(line: string): Head | undefined {
  return endSchema.safeParse(parseJson(new TextEncoder().encode(line)) ?? null).data?.end;
}

/**
 * Adds an entry to the facts before it. Answers those that it set. Pure but for `facts`: folding the
 * same entries gives the same facts, which is how a snapshot is checked.
 */
export function foldInto(facts: Facts, { action, ...circumstances }: Entry): StoredFact[] {
  const after = foldAction(action, circumstances, facts);
  const before = facts.get('state', stateKey.key);
  const added = after.all().filter(({ key }) => countedKinds.some((kind) => kind === key.kind) && !facts.isSet(key));
  const countOf = (kind: keyof FactCounts): number =>
    (before?.counts[kind] ?? 0) + added.filter(({ key }) => key.kind === kind).length;
  after.set('state', stateKey.key, {
    seq: circumstances.seq,
    at: circumstances.at,
    signedSince: before?.signedSince ?? (circumstances.signature === undefined ? undefined : circumstances.seq),
    counts: { environment: countOf('environment'), line: countOf('line'), withdrawn: countOf('withdrawn') },
  });
  const set = after.all();
  set.forEach(({ key, text }) => facts.load(key, text));
  return set;
}

/** When an entry is made that follows what some facts say: now, and never before the one that it follows. */
export function timeAfter(facts: Facts, now: Timestamp): Timestamp {
  const last = facts.get('state', stateKey.key)?.at;
  return last !== undefined && last > now ? last : now;
}
