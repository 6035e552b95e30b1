import * as z from 'zod';
import { digestSchema } from '../core/oci/digest';
import { emptyHead, openEntry, type Head, type SealedEntry } from '../core/release/entry';
import { factKinds, Facts, factsReadBy, foldEntry, type FactKey, type StoredFact } from '../core/release/facts';
import type { Ledger } from './ledger';

/** SQL within one transaction. `?` stands for a value. */
export interface Sql {
  rows(text: string, values: readonly (string | number)[]): Promise<unknown[]>;
}

/** A database that keeps ledgers: what SQLite and PostgreSQL do differently. */
export interface LedgerDatabase {
  /** Begins the names of the tables. */
  readonly prefix: string;
  /**
   * Runs work in one transaction. `read` sees one moment. `write` keeps every other writer of the
   * product out until it ends. Throws {@link ConnectionLost} where it is not known whether it did.
   */
  transact<T>(mode: 'read' | 'write', work: (sql: Sql) => Promise<T>): Promise<T>;
  close(): Promise<void>;
}

/** A connection broke before the end of a transaction was confirmed. */
export class ConnectionLost extends Error {}

/**
 * The form in which ledgers are kept, and how each form is made from the one before. The facts
 * follow from the entries: when a form changes, they are folded anew.
 */
export const ledgerForms: readonly ((prefix: string) => string)[] = [
  (prefix) => `
    CREATE TABLE ${prefix}entries (
      product TEXT NOT NULL, seq INTEGER NOT NULL, hash TEXT NOT NULL, text TEXT NOT NULL,
      PRIMARY KEY (product, seq)
    );
    CREATE TABLE ${prefix}facts (
      product TEXT NOT NULL, kind TEXT NOT NULL, key TEXT NOT NULL, text TEXT NOT NULL,
      PRIMARY KEY (product, kind, key)
    );`,
  // The content, version line and staged parts became facts.
  (prefix) => `DELETE FROM ${prefix}facts;`,
];

/** Rows read or written at a time. */
const pageSize = 500;

const headRow = z.object({ seq: z.number(), hash: digestSchema });
const entryRow = z.object({ hash: digestSchema, text: z.string() });
const factRow = z.object({ kind: z.enum(factKinds), key: z.string(), text: z.string() });
const productRow = z.object({ product: z.string() });

/** The ledger of one product in a database. */
export class SqlLedger implements Ledger {
  constructor(
    private readonly database: LedgerDatabase,
    private readonly product: string,
  ) {}

  read(keys: readonly FactKey[]) {
    return this.database.transact('read', async (sql) => ({
      head: await this.head(sql),
      facts: await this.factsOf(sql, keys),
    }));
  }

  async append(entries: readonly SealedEntry[], expected: Head): Promise<boolean> {
    try {
      return await this.database.transact('write', async (sql) => {
        const head = await this.head(sql);
        if (head.seq !== expected.seq || head.hash !== expected.hash) {
          return false;
        }
        const rows = entries.map(({ entry, hash, text }) => [this.product, entry.seq, hash, text]);
        await this.insert(sql, 'entries (product, seq, hash, text)', rows, '');
        const facts = await this.factsOf(
          sql,
          entries.flatMap(({ entry }) => factsReadBy(entry)),
        );
        await this.writeFacts(sql, foldAll(entries, facts));
        return true;
      });
    } catch (error) {
      if (error instanceof ConnectionLost) {
        return false;
      }
      throw error;
    }
  }

  async *entries(): AsyncGenerator<SealedEntry> {
    let before = emptyHead;
    for (;;) {
      const after = before;
      const page = await this.database.transact('read', (sql) => this.entriesAfter(sql, after));
      for (const each of page) {
        yield each;
        before = { seq: each.entry.seq, hash: each.hash };
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
      const page = z.array(factRow).parse(await this.database.transact('read', (sql) => sql.rows(select, values)));
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

  /** Folds all entries anew, within a transaction in which nothing has facts. */
  async refold(sql: Sql): Promise<void> {
    const all = new Facts();
    let head = emptyHead;
    for (;;) {
      const page = await this.entriesAfter(sql, head);
      foldAll(page, all);
      const last = page.at(-1);
      if (last === undefined) {
        return this.writeFacts(sql, all.all());
      }
      head = { seq: last.entry.seq, hash: last.hash };
    }
  }

  private async head(sql: Sql): Promise<Head> {
    const select = `SELECT seq, hash FROM ${this.database.prefix}entries WHERE product = ? ORDER BY seq DESC LIMIT 1`;
    return headRow.optional().parse((await sql.rows(select, [this.product]))[0]) ?? emptyHead;
  }

  private async factsOf(sql: Sql, keys: readonly FactKey[]): Promise<Facts> {
    const facts = new Facts();
    const unique = [...new Map(keys.map((key) => [`${key.kind} ${key.key}`, key])).values()];
    for (const page of pagesOf(unique)) {
      const places = page.map(() => '(?, ?)').join(', ');
      const rows = await sql.rows(
        `SELECT kind, key, text FROM ${this.database.prefix}facts WHERE product = ? AND (kind, key) IN (VALUES ${places})`,
        [this.product, ...page.flatMap(({ kind, key }) => [kind, key])],
      );
      for (const { kind, key, text } of z.array(factRow).parse(rows)) {
        facts.load({ kind, key }, text);
      }
    }
    return facts;
  }

  private async entriesAfter(sql: Sql, head: Head): Promise<SealedEntry[]> {
    const select = `SELECT hash, text FROM ${this.database.prefix}entries WHERE product = ? AND seq > ? ORDER BY seq LIMIT ?`;
    const rows = z.array(entryRow).parse(await sql.rows(select, [this.product, head.seq, pageSize]));
    const opened: SealedEntry[] = [];
    let before = head;
    for (const row of rows) {
      const sealed = openEntry(row, before);
      opened.push(sealed);
      before = { seq: sealed.entry.seq, hash: sealed.hash };
    }
    return opened;
  }

  private writeFacts(sql: Sql, facts: readonly StoredFact[]): Promise<void> {
    const rows = facts.map(({ key, text }) => [this.product, key.kind, key.key, text]);
    const replace = 'ON CONFLICT (product, kind, key) DO UPDATE SET text = excluded.text';
    return this.insert(sql, 'facts (product, kind, key, text)', rows, replace);
  }

  private async insert(sql: Sql, into: string, rows: readonly (string | number)[][], conflict: string): Promise<void> {
    for (const page of pagesOf(rows)) {
      const places = page.map((row) => `(${row.map(() => '?').join(', ')})`).join(', ');
      await sql.rows(`INSERT INTO ${this.database.prefix}${into} VALUES ${places} ${conflict}`, page.flat());
    }
  }
}

/** Folds the facts of every product of a database anew. */
export async function refoldAll(database: LedgerDatabase, sql: Sql): Promise<void> {
  const rows = await sql.rows(`SELECT DISTINCT product FROM ${database.prefix}entries`, []);
  for (const { product } of z.array(productRow).parse(rows)) {
    await new SqlLedger(database, product).refold(sql);
  }
}

/** Adds entries to facts. Answers those that were set. */
function foldAll(entries: readonly SealedEntry[], facts: Facts): StoredFact[] {
  const set = new Facts();
  for (const { entry } of entries) {
    for (const { key, text } of foldEntry(entry, facts).all()) {
      facts.load(key, text);
      set.load(key, text);
    }
  }
  return set.all();
}

function* pagesOf<T>(all: readonly T[]): Generator<readonly T[]> {
  for (let at = 0; at < all.length; at += pageSize) {
    yield all.slice(at, at + pageSize);
  }
}
