import * as z from 'zod';
import { HodError } from '../../../core/errors';
import { issuesToText, parseJson } from '../../../core/json';
import { digestSchema, sha256 } from '../../../core/oci/digest';
import type { Action } from '../../../core/ledger/entries';
import { emptyHead, type CompactedEntry, type Head } from '../../../core/ledger/entry';
import { factKinds, factName, type FactKey, type SetFact } from '../../../core/ledger/facts';
import { factsCorrupt } from '../../problems';

/**
 * How a ledger lies in git: a reference of its own, a commit for each append. The message of a commit says
 * where the ledger stands; its tree holds a file for each entry, under its number, and the facts in small
 * files, each for those whose names have hashes that begin alike. No tree has more than 256 names.
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
  /** How many facts there are, and how many digits of the hash of a name say in which file a fact lies. */
  facts: z.number().int(),
  digits: z.number().int(),
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
export function commitMessage(state: GitState, actions: readonly Action[]): string {
  const told = actions.map((action) => {
    const version = 'version' in action && action.version !== undefined ? ` ${action.version}` : '';
    return `${action.kind}${version}${'environment' in action ? ` in ${action.environment}` : ''}`;
  });
  return `entry ${state.seq}: ${[...new Set(told)].slice(0, 3).join(', ')}\n\n${JSON.stringify(state)}\n`;
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

/** What stands in a tree, by name. */
export type Tree = ReadonlyMap<string, { readonly id: ObjectId; readonly isTree: boolean }>;

/** Reads a tree (git's own form: mode, space, name, zero byte, id). */
export function readTree(content: Buffer): Tree {
  const names = new Map<string, { id: ObjectId; isTree: boolean }>();
  for (let at = 0; at < content.length;) {
    const space = content.indexOf(0x20, at);
    const end = content.indexOf(0, space);
    const id = objectIdSchema.parse(content.toString('hex', end + 1, end + 1 + idBytes));
    names.set(content.toString('utf8', space + 1, end), {
      id,
      isTree: content.toString('latin1', at, space) === '40000',
    });
    at = end + 1 + idBytes;
  }
  return names;
}

/** A file in the tree of a ledger, by the names that lead to it. */
export type TreePath = readonly string[];

/** The folders of a ledger. */
export const folders = { entries: 'entries', facts: 'facts', compacted: 'compacted' } as const;
export type Folder = (typeof folders)[keyof typeof folders];

/** Where an entry lies. */
export function entryPath(seq: number): TreePath {
  const [, ...names] = /^(.*)(..)(..)$/.exec(seq.toString(16).padStart(6, '0')) ?? [];
  return [folders.entries, ...names];
}

/** Where the hash of an entry lies whose text was moved into a file: with those of up to 255 others. */
export function compactedPath(seq: number): TreePath {
  return [folders.compacted, ...entryPath(seq).slice(1, -1)];
}

/** The content of a file of hashes, a line for each entry. */
export function writeCompacted(entries: readonly CompactedEntry[]): string {
  return entries.map(({ seq, hash }) => `${JSON.stringify({ seq, hash })}\n`).join('');
}

const compactedSchema = z.object({ seq: z.number().int().positive(), hash: digestSchema });

/** Reads a file of hashes. Throws `ledger-corrupt` for a line that no Hod wrote. */
export function readCompacted(content: Buffer, path: TreePath): CompactedEntry[] {
  const lines = content.toString('utf8').split('\n').slice(0, -1);
  return lines.map((line) => {
    const parsed = compactedSchema.safeParse(parseJson(new TextEncoder().encode(line)) ?? null);
    if (!parsed.success) {
      throw notWrittenByHod(path.join('/'), issuesToText(parsed.error));
    }
    return parsed.data;
  });
}

/** The number of the entry that lies under a path. */
export function entryAt(path: TreePath): number {
  return Number.parseInt(path.slice(1).join(''), 16);
}

/** How many facts lie in a file, at most and on average. */
const factsInFile = 16;

/** How many digits of a hash it takes for so many facts. */
export function digitsFor(facts: number): number {
  let digits = 1;
  while (16 ** digits * factsInFile < facts) {
    digits += 1;
  }
  return digits;
}

/** Where a fact lies. */
export function factsPath(key: FactKey, digits: number): TreePath {
  const hash = sha256(factName(key)).slice('sha256:'.length, 'sha256:'.length + digits);
  return [folders.facts, ...(hash.match(/..?/g) ?? [])];
}

const lineSchema = z.object({
  kind: z.enum(factKinds),
  key: z.string(),
  /** The entry that set it. */
  seq: z.number().int(),
  text: z.string(),
  /** The beginning of the hash of all this. */
  sum: z.string(),
});

/** The content of a file of facts: a line for each, in the order of their names, so that git keeps what changed only. */
export function writeFacts(facts: readonly SetFact[]): string {
  const named = facts.map((fact) => ({ name: factName(fact.key), fact }));
  named.sort((one, other) => (one.name < other.name ? -1 : 1));
  return named.map(({ fact }) => `${JSON.stringify({ ...fieldsOf(fact), sum: sumOf(fact) })}\n`).join('');
}

/**
 * Reads a file of facts. Throws `ledger-facts-corrupt` for a line that was changed, or lies elsewhere than it belongs:
 * git vouches for what was committed, not for who committed it.
 */
export function readFacts(content: Buffer, path: TreePath): SetFact[] {
  const lines = content.toString('utf8').split('\n').slice(0, -1);
  return lines.map((line) => {
    const parsed = lineSchema.safeParse(parseJson(new TextEncoder().encode(line)) ?? null);
    if (!parsed.success) {
      throw factsCorrupt(path.join('/'), issuesToText(parsed.error));
    }
    const { kind, key, seq, text, sum } = parsed.data;
    const fact = { key: { kind, key }, seq, text };
    const digits = path.slice(1).join('').length;
    if (sum !== sumOf(fact) || factsPath(fact.key, digits).join('/') !== path.join('/')) {
      throw factsCorrupt(factName(fact.key), `entry ${seq} did not set it so, as it lies in ${path.join('/')}`);
    }
    return fact;
  });
}

function fieldsOf({ key: { kind, key }, seq, text }: SetFact) {
  return { kind, key, seq, text };
}

function sumOf(fact: SetFact): string {
  return sha256(JSON.stringify(fieldsOf(fact))).slice('sha256:'.length, 'sha256:'.length + 16);
}

/** The head that a commit stands for. */
export function headOf(commit: LedgerCommit | undefined): Head {
  return commit === undefined ? emptyHead : { seq: commit.state.seq, hash: commit.state.hash };
}
