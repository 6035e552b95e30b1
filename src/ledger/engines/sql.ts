import * as z from 'zod';
import { digestSchema } from '../../core/oci/digest';
import { factsReadBy } from '../../core/release/actions';
import { emptyHead, foldInto, headAfter, openEntry, type Head, type SealedEntry } from '../../core/release/entry';
import { factKinds, factName, Facts, type FactKey, type StoredFact } from '../../core/release/facts';
import type { Ledger, LedgerState } from '../ledger';

/** A value in a statement; `?` stands for one. */
export type SqlValue = string | number;

/** Runs one statement, which sees one moment. */
export interface Sql {
  rows(text: string, values: readonly SqlValue[]): Promise<unknown[]>;
}

/** Rows of entries (`seq`, `hash`, `text`) and of facts (`kind`, `key`, `text`) that belong together. */
export interface Batch {
  readonly entries: readonly (readonly [number, string, string])[];
  readonly facts: readonly (readonly [string, string, string])[];
}

/** A database that keeps ledgers: what SQLite and PostgreSQL do differently. */
export interface LedgerDatabase extends Sql {
  /** Begins the names of the tables. */
  readonly prefix: string;
  /**
   * Writes a batch where `expected` is the head of the product, all of it or nothing: the one step
   * that is serialised. Answers whether it was written; false also where that is not known because
   * the connection broke.
   */
  append(product: string, batch: Batch, expected: Head): Promise<boolean>;
  close(): Promise<void>;
}

/** Rows read or written at a time. */
const pageSize = 500;

const entryRow = z.object({ hash: digestSchema, text: z.string() });
const factRow = z.object({ kind: z.enum(factKinds), key: z.string(), text: z.string() });
const stateRow = z.union([z.object({ kind: z.literal(''), key: z.string(), text: digestSchema }), factRow]);
const productRow = z.object({ product: z.string() });

/** The ledger of one product in a database. */
export class SqlLedger implements Ledger {
  constructor(
    private readonly database: LedgerDatabase,
    private readonly product: string,
  ) {}

  /** The head and the facts come in one statement, and so of one moment. */
  async read(keys: readonly FactKey[]): Promise<LedgerState> {
    const { prefix } = this.database;
    const unique = [...new Map(keys.map((key) => [factName(key), key])).values()];
    const head = `SELECT '' AS kind, CAST(seq AS TEXT) AS key, hash AS text FROM ${prefix}entries
      WHERE product = ? AND seq = (SELECT max(seq) FROM ${prefix}entries WHERE product = ?)`;
    const places = unique.map(() => '(?, ?)').join(', ');
    const facts = `SELECT kind, key, text FROM ${prefix}facts WHERE product = ? AND (kind, key) IN (VALUES ${places})`;
    const rows = await this.database.rows(unique.length === 0 ? head : `${head} UNION ALL ${facts}`, [
      this.product,
      this.product,
      ...(unique.length === 0 ? [] : [this.product, ...unique.flatMap(({ kind, key }) => [kind, key])]),
    ]);
    const state: LedgerState = { head: emptyHead, facts: new Facts(unique) };
    for (const row of z.array(stateRow).parse(rows)) {
      if (row.kind === '') {
        state.head = { seq: Number(row.key), hash: row.text };
      } else {
        state.facts.load({ kind: row.kind, key: row.key }, row.text);
      }
    }
    return state;
  }

  async append(entries: readonly SealedEntry[], expected: Head): Promise<number | undefined> {
    // The facts of a head never change, so they are folded before the step that is serialised.
    const { head, facts } = await this.read(entries.flatMap(({ entry }) => factsReadBy(entry.action)));
    if (head.seq !== expected.seq || head.hash !== expected.hash) {
      return undefined;
    }
    if (entries.length === 0) {
      return 0;
    }
    const batch: Batch = {
      entries: entries.map(({ entry, hash, text }) => [entry.seq, hash, text]),
      facts: rowsOf(foldAll(entries, facts)),
    };
    const begun = performance.now();
    const written = await this.database.append(this.product, batch, expected);
    return written ? performance.now() - begun : undefined;
  }

  async *entries(): AsyncGenerator<SealedEntry> {
    let before = emptyHead;
    for (;;) {
      const page = await this.entriesAfter(before);
      for (const each of page) {
        yield each;
        before = headAfter(each);
      }
      if (page.length < pageSize) {
        return;
      }
    }
  }

  async *facts(): AsyncGenerator<StoredFact> {
    const { prefix } = this.database;
    const select = `SELECT kind, key, text FROM ${prefix}facts WHERE product = ? AND (kind, key) > (?, ?) ORDER BY kind, key LIMIT ?`;
    let last: FactKey | undefined;
    for (;;) {
      const values = [this.product, last?.kind ?? '', last?.key ?? '', pageSize];
      const page = z.array(factRow).parse(await this.database.rows(select, values));
      yield* page.map(({ kind, key, text }) => ({ key: { kind, key }, text }));
      last = page.at(-1);
      if (page.length < pageSize) {
        return;
      }
    }
  }

  close(): Promise<void> {
    return this.database.close();
  }

  private async entriesAfter(head: Head): Promise<SealedEntry[]> {
    return entriesAfter(this.database, this.database.prefix, this.product, head);
  }
}

async function entriesAfter(sql: Sql, prefix: string, product: string, head: Head): Promise<SealedEntry[]> {
  const select = `SELECT hash, text FROM ${prefix}entries WHERE product = ? AND seq > ? ORDER BY seq LIMIT ?`;
  const rows = z.array(entryRow).parse(await sql.rows(select, [product, head.seq, pageSize]));
  const opened: SealedEntry[] = [];
  let before = head;
  for (const row of rows) {
    const sealed = openEntry(row, before);
    opened.push(sealed);
    before = headAfter(sealed);
  }
  return opened;
}

/** Folds the facts of every product anew, within a transaction in which nothing has facts. */
export async function refoldAll(sql: Sql, prefix: string): Promise<void> {
  const rows = await sql.rows(`SELECT DISTINCT product FROM ${prefix}entries`, []);
  for (const { product } of z.array(productRow).parse(rows)) {
    const all = new Facts();
    let head = emptyHead;
    for (let page = await entriesAfter(sql, prefix, product, head); page.length > 0;) {
      foldAll(page, all);
      head = page.map(headAfter).at(-1) ?? head;
      page = await entriesAfter(sql, prefix, product, head);
    }
    for (const { text, values } of insertFacts(prefix, product, rowsOf(all.all()))) {
      await sql.rows(text, values);
    }
  }
}

/** A statement and its values. */
export interface Statement {
  readonly text: string;
  readonly values: readonly SqlValue[];
}

/** The statements that add entries. */
export function insertEntries(prefix: string, product: string, entries: Batch['entries']): Statement[] {
  return insert(`INSERT INTO ${prefix}entries (product, seq, hash, text)`, product, entries, '');
}

/** The statements that set facts. */
export function insertFacts(prefix: string, product: string, facts: Batch['facts']): Statement[] {
  return insert(`INSERT INTO ${prefix}facts (product, kind, key, text)`, product, facts, replaceFact);
}

/** What becomes of a fact that is there already. */
export const replaceFact = 'ON CONFLICT (product, kind, key) DO UPDATE SET text = excluded.text';

function insert(into: string, product: string, rows: readonly (readonly SqlValue[])[], conflict: string): Statement[] {
  return pagesOf(rows).map((page) => ({
    text: `${into} VALUES ${page.map(() => '(?, ?, ?, ?)').join(', ')} ${conflict}`,
    values: page.flatMap((row) => [product, ...row]),
  }));
}

function rowsOf(facts: readonly StoredFact[]): Batch['facts'] {
  return facts.map(({ key, text }) => [key.kind, key.key, text]);
}

/** Adds entries to facts. Answers those that were set. */
function foldAll(entries: readonly SealedEntry[], facts: Facts): StoredFact[] {
  const set = new Facts();
  for (const { entry } of entries) {
    foldInto(facts, entry).forEach(({ key, text }) => set.load(key, text));
  }
  return set.all();
}

function pagesOf<T>(all: readonly T[]): (readonly T[])[] {
  return Array.from({ length: Math.ceil(all.length / pageSize) }, (_, at) =>
    all.slice(at * pageSize, (at + 1) * pageSize),
  );
}
