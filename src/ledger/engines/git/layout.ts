import * as z from 'zod';
import { HodError } from '../../../core/errors';
import { issuesToText, parseJson } from '../../../core/json';
import { digestSchema, sha256 } from '../../../core/oci/digest';
import type { Head } from '../../../core/release/entry';
import { factKinds, factName, type FactKey } from '../../../core/release/facts';

/**
 * How a ledger lies in git: a reference of its own, a commit for each append. The message of a commit says
 * where the ledger stands; its tree holds every entry under its number and every fact under the hash of
 * its name, fanned out so that no tree has more than 256 names but the last ones, and those few.
 */

/** The id of an object of git, in hexadecimal. */
export type ObjectId = string & { readonly objectId: unique symbol };
export const objectIdSchema = z
  .string()
  .regex(/^[0-9a-f]{40}$/)
  .transform((text) => text as ObjectId);

/** Where a ledger stands after an append. */
const stateSchema = z.object({
  form: z.number().int(),
  product: z.string(),
  seq: z.number().int().positive(),
  hash: digestSchema,
  /** How many facts there are. */
  facts: z.number().int(),
});
export type GitState = z.infer<typeof stateSchema>;

/** A commit of a ledger. */
export interface LedgerCommit {
  readonly id: ObjectId;
  readonly tree: ObjectId;
  readonly parents: readonly ObjectId[];
  readonly state: GitState;
}

/** What the message of the commit for an append says: a line for people, and one for Hod. */
export function messageOf(state: GitState, actions: readonly string[]): string {
  return `entry ${state.seq}: ${[...new Set(actions)].join(', ')}\n\n${JSON.stringify(state)}\n`;
}

/** Reads a commit of a ledger. Throws `ledger-corrupt` for one that no Hod wrote. */
export function readCommit(id: ObjectId, content: Buffer, label: string): LedgerCommit {
  const text = content.toString('utf8');
  const [header, message] = splitOnce(text, '\n\n');
  const ids = (key: string): ObjectId[] =>
    header
      .split('\n')
      .filter((line) => line.startsWith(`${key} `))
      .flatMap((line) => objectIdSchema.safeParse(line.slice(key.length + 1)).data ?? []);
  const last = message.trimEnd().split('\n').at(-1) ?? '';
  const state = stateSchema.safeParse(parseJson(new TextEncoder().encode(last)) ?? null);
  const [tree] = ids('tree');
  if (!state.success || tree === undefined) {
    throw notWrittenByHod(label, `its newest commit, ${id.slice(0, 12)}, does not say where the ledger stands`);
  }
  return { id, tree, parents: ids('parent'), state: state.data };
}

function splitOnce(text: string, mark: string): [string, string] {
  const at = text.indexOf(mark);
  return at < 0 ? [text, ''] : [text.slice(0, at), text.slice(at + mark.length)];
}

/** The error for a reference, or something under it, that was not written by Hod. */
export function notWrittenByHod(object: string, why: string): HodError {
  return new HodError('ledger-corrupt', {
    what: 'the ledger holds what no Hod wrote',
    object,
    why,
    next: 'correct `ref:` under `ledger:` in hod.yaml, or take the reference back to the commit before (docs/ledger.md)',
  });
}

/** The bytes of an id (SHA-1). */
const idBytes = 20;

/** The names in a tree, and what stands under them (gitformat: mode, space, name, zero byte, id). */
export function readTree(content: Buffer): ReadonlyMap<string, ObjectId> {
  const names = new Map<string, ObjectId>();
  for (let at = 0; at < content.length;) {
    const space = content.indexOf(0x20, at);
    const end = content.indexOf(0, space);
    const id = objectIdSchema.parse(content.toString('hex', end + 1, end + 1 + idBytes));
    names.set(content.toString('utf8', space + 1, end), id);
    at = end + 1 + idBytes;
  }
  return names;
}

/** A file in the tree of a ledger, by the names that lead to it. */
export type Path = readonly string[];

/** How many names lead to a file. */
export const pathLength = 4;
/** The folders of a ledger. */
export const folders = { entries: 'entries', facts: 'facts' } as const;
export type Folder = (typeof folders)[keyof typeof folders];

/** Where an entry lies. */
export function entryPath(seq: number): Path {
  const [, ...names] = /^(.*)(..)(..)$/.exec(seq.toString(16).padStart(6, '0')) ?? [];
  return [folders.entries, ...names];
}

/** The number of the entry that lies under a path. */
export function entryAt(path: Path): number {
  return Number.parseInt(path.slice(1).join(''), 16);
}

/** Where a fact lies. */
export function factPath(key: FactKey): Path {
  const hash = sha256(factName(key)).slice('sha256:'.length);
  return [folders.facts, hash.slice(0, 2), hash.slice(2, 4), hash.slice(4, 32)];
}

const factSchema = z.object({
  kind: z.enum(factKinds),
  key: z.string(),
  seq: z.number().int(),
  /** The hash of the entry that set it. */
  entry: digestSchema,
  seal: digestSchema,
  text: z.string(),
});
/** A fact, as it lies in git. */
export type GitFact = z.infer<typeof factSchema>;

/** The content of the file of a fact: a line each, so that git keeps what changed only. */
export function writeFact({ kind, key, seq, entry, seal, text }: GitFact): string {
  return `${JSON.stringify({ kind, key, seq, entry, seal })}\n${text}\n`;
}

/** Reads the file of a fact. Throws `ledger-corrupt` for one that no Hod wrote. */
export function readFact(content: Buffer, path: Path): GitFact {
  const [head, text] = splitOnce(content.toString('utf8'), '\n');
  const parsed = factSchema.safeParse({
    ...z
      .looseObject({})
      .catch({})
      .parse(parseJson(new TextEncoder().encode(head)) ?? {}),
    text: text.slice(0, -1),
  });
  if (!parsed.success) {
    throw notWrittenByHod(path.join('/'), issuesToText(parsed.error));
  }
  return parsed.data;
}

/** The head that a commit stands for. */
export function headOf(commit: LedgerCommit | undefined): Head {
  return commit === undefined ? { seq: 0, hash: null } : { seq: commit.state.seq, hash: commit.state.hash };
}
