import * as z from 'zod';
import { HodError } from '../../core/errors';
import { issuesToText } from '../../core/json';
import { digestSchema } from '../../core/oci/digest';
import type { RepositoryName } from '../../core/oci/reference';
import { factsReadBy } from '../../core/ledger/entries';
import {
  changedOutside,
  emptyHead,
  foldInto,
  headAfter,
  openEntry,
  type After,
  type CompactedEntry,
  type Head,
  type SealedEntry,
} from '../../core/ledger/entry';
import {
  compactedKey,
  countedKinds,
  factKinds,
  factName,
  Facts,
  sealOf,
  stateKey,
  type FactCounts,
  type FactKey,
  type SetFact,
} from '../../core/ledger/facts';
import {
  emptyContent,
  sameEngine,
  type Ledger,
  type LedgerAppend,
  type LedgerContent,
  type LedgerState,
  type NeighbourLedger,
} from '../ledger';
import { checkState } from '../check-state';
import { factsCorrupt } from '../problems';

/** A value in a statement; `?` stands for one. */
export type SqlValue = string | number;

/** Runs one statement, which sees one moment. */
export interface Sql {
  rows(text: string, values: readonly SqlValue[]): Promise<unknown[]>;
}

/** How a database writes what the two engines write differently. */
export interface Dialect {
  /** Begins the names of the tables. */
  readonly prefix: string;
  /** A table with a column `value` for each element of a JSON array, which is one value however many there are. */
  readonly elements: string;
  /**
   * The facts `f` that a JSON array of `[kind, key]` names, of a product: two values, in this order.
   * Each is looked up by its key, so that reading costs the same however many facts there are.
   */
  readonly namedFacts: string;
}

/** Rows of a product that are written together: JSON arrays of arrays. */
export interface Batch {
  readonly product: string;
  /** The head that the entries follow. */
  readonly expected: Head;
  readonly count: number;
  /** `[seq, hash, text]` of each entry. */
  readonly entries: string;
  /** `[kind, key, text, seq, seal]` of each fact. */
  readonly facts: string;
  /** `[seq]` of each earlier entry whose text is dropped; undefined where there is none. */
  readonly compacted: string | undefined;
}

/** A database that keeps ledgers: what SQLite and PostgreSQL do differently. */
export interface LedgerDatabase extends Sql {
  readonly dialect: Dialect;
  /** What its tables are. */
  readonly isMade: boolean;
  /** Names it for people, without a login. */
  readonly label: string;
  /**
   * Writes batches where each `expected` is the head of its product, all of them or nothing: the one step
   * that is serialised. Answers whether they were written; false also where that is not known because
   * the connection broke.
   */
  append(batches: readonly Batch[]): Promise<boolean>;
  /** Throws where it cannot be written, as far as that is seen without writing. */
  mayWrite(): Promise<void>;
  /** Does work on the database as it is at one moment. */
  snapshot<T>(work: (sql: Sql) => Promise<T>): Promise<T>;
  close(): Promise<void>;
}

/** Rows read at a time. */
const pageSize = 500;

const entryRow = z.object({ seq: z.number(), hash: digestSchema, text: z.string() });
const factRow = z.object({
  kind: z.enum(factKinds),
  key: z.string(),
  text: z.string(),
  seq: z.number(),
  seal: z.string(),
  /** The hash of the entry that set it; null where there is no such entry. */
  setter: digestSchema.nullable(),
});
const productRow = z.object({ product: z.string() });
const headRow = z.object({ kind: z.literal(''), key: z.string(), text: digestSchema });
/** How many facts there are of a kind that is counted. */
const countRow = z.object({ kind: z.literal('#'), key: z.enum(countedKinds), text: z.string().nullable() });
const stateRow = z.union([headRow, countRow, factRow]);

/** The names of facts, as a JSON array of `[kind, key]`. */
function namesOf(keys: readonly FactKey[]): string {
  return JSON.stringify(keys.map(({ kind, key }) => [kind, key]));
}

/** Rows of a known form. Throws `ledger-corrupt` for others: somebody else wrote them. */
export function rowsAs<T>(schema: z.ZodType<T>, rows: unknown): T[] {
  const parsed = z.array(schema).safeParse(rows);
  if (!parsed.success) {
    throw new HodError('ledger-corrupt', {
      what: 'the ledger holds what no Hod wrote',
      object: 'a row of the ledger',
      why: issuesToText(parsed.error).slice(0, 500),
      next: 'restore the ledger from its backup',
    });
  }
  return parsed.data;
}

/** The ledger of one product in a database. */
export class SqlLedger implements Ledger {
  private readonly reader: Reader;

  constructor(
    private readonly database: LedgerDatabase,
    private readonly product: string,
  ) {
    this.reader = new Reader(database, database.dialect, product);
  }

  async read(keys: readonly FactKey[]): Promise<LedgerState> {
    return this.database.isMade ? this.reader.read(keys) : { head: emptyHead, facts: new Facts() };
  }

  get place(): string {
    return this.database.label;
  }

  async append(
    entries: readonly SealedEntry[],
    expected: Head,
    compacted: readonly number[] = [],
  ): Promise<number | undefined> {
    const batch = await this.batch(entries, expected);
    return batch && this.write([{ ...batch, compacted: compactedRows(compacted) }]);
  }

  async appendTogether(appends: readonly LedgerAppend[]): Promise<number | undefined> {
    const batches = await Promise.all(
      appends.map(({ ledger, entries, expected }) => sameEngine(ledger, SqlLedger).batch(entries, expected)),
    );
    const known = batches.filter((batch) => batch !== undefined);
    return known.length < batches.length ? undefined : this.write(known);
  }

  /** What is written of entries; undefined where they do not follow the head. Its facts never change, so they are folded before the step that is serialised. */
  private async batch(entries: readonly SealedEntry[], expected: Head): Promise<Batch | undefined> {
    const { head, facts } = await this.read(entries.flatMap(({ entry }) => factsReadBy(entry.action)));
    return head.seq === expected.seq && head.hash === expected.hash
      ? { product: this.product, expected, ...batchOf(entries, facts), compacted: undefined }
      : undefined;
  }

  private async write(batches: readonly Batch[]): Promise<number | undefined> {
    const filled = batches.filter(({ count }) => count > 0);
    if (filled.length === 0) {
      return 0;
    }
    const begun = performance.now();
    return (await this.database.append(filled)) ? performance.now() - begun : undefined;
  }

  mayAppend(): Promise<void> {
    return this.database.mayWrite();
  }

  entries(after?: After): AsyncIterable<SealedEntry> {
    return this.database.isMade ? this.reader.entries(after) : emptyContent.entries();
  }

  snapshot<T>(work: (content: LedgerContent) => Promise<T>): Promise<T> {
    return this.database.isMade
      ? this.database.snapshot((sql) => work(new Reader(sql, this.database.dialect, this.product)))
      : work(emptyContent);
  }

  async neighbours(repositories: readonly RepositoryName[]): Promise<readonly NeighbourLedger[]> {
    const { database, product } = this;
    const { prefix, elements } = database.dialect;
    // What is staged there, and tags, have the repository in their keys, before the last colon; what is served has it in the text.
    const select = `
      SELECT product FROM ${prefix}facts WHERE product <> ? AND kind IN ('tag', 'staged-in')
        AND CASE kind WHEN 'tag' THEN rtrim(key, replace(key, ':', '')) ELSE key || ':' END
          IN (SELECT (value ->> 0) || ':' FROM ${elements})
      UNION SELECT product FROM ${elements} JOIN ${prefix}facts ON replace(text, '"' || (value ->> 0) || '"', '') <> text
        WHERE product <> ? AND kind IN ('environment', 'lane')`;
    const names = JSON.stringify(repositories.map((name) => [name]));
    const values = [product, names, names, product];
    const found = database.isMade ? rowsAs(productRow, await database.rows(select, values)) : [];
    return found.map((other) => ({
      product: other.product,
      entries: (after) => new Reader(database, database.dialect, other.product).entries(after),
    }));
  }

  close(): Promise<void> {
    return this.database.close();
  }
}

/** Reads the ledger of one product. */
class Reader implements LedgerContent {
  /** The last entry whose text was moved into a file. */
  private through: Promise<number> | undefined;

  constructor(
    private readonly sql: Sql,
    private readonly dialect: Dialect,
    private readonly product: string,
  ) {}

  /** The head and the facts come in one statement, and so of one moment; with each fact comes the hash of its entry. */
  async read(keys: readonly FactKey[]): Promise<LedgerState> {
    const { prefix, namedFacts } = this.dialect;
    const unique = [...new Map([stateKey, ...keys].map((key) => [factName(key), key])).values()];
    const counted = countedKinds
      .map((kind) => ({ kind, asked: unique.filter((key) => key.kind === kind) }))
      .filter(({ asked }) => asked.length > 0);
    const head = `SELECT '' AS kind, CAST(seq AS TEXT) AS key, hash AS text, 0 AS seq, '' AS seal, NULL AS setter FROM ${prefix}entries
      WHERE product = ? AND seq = (SELECT max(seq) FROM ${prefix}entries WHERE product = ?)`;
    const facts = `${selectFacts(prefix)} FROM ${namedFacts}`;
    // Where all that is asked for is there, nothing can have been removed that matters, and nothing is counted.
    const count = `SELECT '#' AS kind, CAST(? AS TEXT) AS key,
      CASE WHEN (SELECT count(*) FROM ${namedFacts}) < CAST(? AS INTEGER)
        THEN (SELECT CAST(count(*) AS TEXT) FROM ${prefix}facts WHERE product = ? AND kind = ?) END AS text,
      0 AS seq, '' AS seal, NULL AS setter`;
    const rows = await this.sql.rows([head, facts, ...counted.map(() => count)].join(' UNION ALL '), [
      this.product,
      this.product,
      namesOf(unique),
      this.product,
      ...counted.flatMap(({ kind, asked }) => [
        ...[kind, namesOf(asked), this.product],
        ...[asked.length, this.product, kind],
      ]),
    ]);
    const state: LedgerState = { head: emptyHead, facts: new Facts(unique) };
    const counts = new Map<keyof FactCounts, number>();
    for (const row of rowsAs(stateRow, rows)) {
      if (row.kind === '') {
        state.head = { seq: Number(row.key), hash: row.text };
      } else if (row.kind === '#') {
        if (row.text !== null) {
          counts.set(row.key, Number(row.text));
        }
      } else {
        const { key, text } = checkedFact(row);
        state.facts.load(key, text);
      }
    }
    checkState(state, counts);
    return state;
  }

  async *entries(after: After = emptyHead): AsyncGenerator<SealedEntry> {
    const { prefix } = this.dialect;
    const select = `SELECT seq, hash, text FROM ${prefix}entries WHERE product = ? AND seq > ? ORDER BY seq LIMIT ?`;
    let before: After = after;
    for (;;) {
      const page = rowsAs(entryRow, await this.sql.rows(select, [this.product, before.seq, pageSize]));
      for (const row of page) {
        if (row.text === '') {
          await this.checkCompacted(row);
          before = { seq: row.seq, hash: row.hash };
          continue;
        }
        const sealed = openEntry(row, before);
        if (row.seq !== sealed.entry.seq || sealed.entry.product !== this.product) {
          throw changedOutside(
            row.seq,
            `it stands there as entry ${row.seq} of ${this.product}, and calls itself ${sealed.entry.seq} of ${sealed.entry.product}`,
          );
        }
        yield sealed;
        before = headAfter(sealed);
      }
      if (page.length < pageSize) {
        return;
      }
    }
  }

  /** Throws `ledger-entry-corrupt` for an entry without a text that no compaction took: somebody deleted it. */
  private async checkCompacted({ seq, hash }: CompactedEntry): Promise<void> {
    this.through ??= this.read([compactedKey]).then(
      ({ facts }) => facts.get('compacted', compactedKey.key)?.through ?? 0,
    );
    if (seq > (await this.through)) {
      throw changedOutside(seq, `it has no text, and its hash is said to be ${hash}`);
    }
  }

  async *compacted(): AsyncGenerator<CompactedEntry> {
    const { prefix } = this.dialect;
    const select = `SELECT seq, hash, text FROM ${prefix}entries WHERE product = ? AND seq > ? AND text = '' ORDER BY seq LIMIT ?`;
    let last = 0;
    for (;;) {
      const page = rowsAs(entryRow, await this.sql.rows(select, [this.product, last, pageSize]));
      yield* page.map(({ seq, hash }) => ({ seq, hash }));
      last = page.at(-1)?.seq ?? last;
      if (page.length < pageSize) {
        return;
      }
    }
  }

  async *facts(): AsyncGenerator<SetFact> {
    const { prefix } = this.dialect;
    const select = `${selectFacts(prefix)} FROM ${prefix}facts AS f
      WHERE f.product = ? AND (f.kind, f.key) > (?, ?) ORDER BY f.kind, f.key LIMIT ?`;
    let last: Pick<FactKey, 'key'> & { kind: string } = { kind: '', key: '' };
    for (;;) {
      const page = rowsAs(factRow, await this.sql.rows(select, [this.product, last.kind, last.key, pageSize]));
      yield* page.map(checkedFact);
      last = page.at(-1) ?? last;
      if (page.length < pageSize) {
        return;
      }
    }
  }
}

/** Selects facts `f`, each with the hash of the entry that set it. */
function selectFacts(prefix: string): string {
  return `SELECT f.kind, f.key, f.text, f.seq, f.seal,
    (SELECT e.hash FROM ${prefix}entries AS e WHERE e.product = f.product AND e.seq = f.seq) AS setter`;
}

/** A fact whose seal is that of its text, under its key, by the entry that set it. */
function checkedFact({ kind, key, text, seq, seal, setter }: z.infer<typeof factRow>): SetFact {
  const fact = { key: { kind, key }, text, seq };
  if (setter === null || seal !== sealOf(fact, setter)) {
    throw factsCorrupt(
      factName(fact.key),
      setter === null ? `there is no entry ${seq}, which is said to have set it` : `entry ${seq} did not set it so`,
    );
  }
  return fact;
}

/** The statement that adds entries: of a product, from a JSON array. */
export function insertEntries({ prefix, elements }: Dialect, where = 'WHERE true'): string {
  return `INSERT INTO ${prefix}entries (product, seq, hash, text)
    SELECT CAST(? AS TEXT), CAST(value ->> 0 AS INTEGER), value ->> 1, value ->> 2 FROM ${elements} ${where}`;
}

/** The statement that drops the texts of entries: of a product, from a JSON array. Their hashes stay. */
export function dropTexts({ prefix, elements }: Dialect): string {
  return `UPDATE ${prefix}entries SET text = '' WHERE product = CAST(? AS TEXT)
    AND seq IN (SELECT CAST(value ->> 0 AS INTEGER) FROM ${elements})`;
}

/** The statement that sets facts: of a product, from a JSON array. */
export function insertFacts({ prefix, elements }: Dialect, where = 'WHERE true'): string {
  return `INSERT INTO ${prefix}facts (product, kind, key, text, seq, seal)
    SELECT CAST(? AS TEXT), value ->> 0, value ->> 1, value ->> 2, CAST(value ->> 3 AS INTEGER), value ->> 4 FROM ${elements} ${where}
    ON CONFLICT (product, kind, key) DO UPDATE SET text = excluded.text, seq = excluded.seq, seal = excluded.seal`;
}

type FactRow = readonly [kind: string, key: string, text: string, seq: number, seal: string];

function compactedRows(seqs: readonly number[]): string | undefined {
  return seqs.length === 0 ? undefined : JSON.stringify(seqs.map((seq) => [seq]));
}

function batchOf(entries: readonly SealedEntry[], facts: Facts): Pick<Batch, 'count' | 'entries' | 'facts'> {
  const set = new Map<string, FactRow>();
  entries.forEach((sealed) => foldRows(sealed, facts, set));
  return {
    count: entries.length,
    entries: JSON.stringify(entries.map(({ entry, hash, text }) => [entry.seq, hash, text])),
    facts: JSON.stringify([...set.values()]),
  };
}

/** Adds an entry to the facts before it, and the rows of those that it set to `rows`, by name: the last one counts. */
function foldRows({ entry, hash }: SealedEntry, facts: Facts, rows: Map<string, FactRow>): void {
  for (const fact of foldInto(facts, entry)) {
    const { kind, key } = fact.key;
    rows.set(factName(fact.key), [kind, key, fact.text, entry.seq, sealOf(fact, hash)]);
  }
}
