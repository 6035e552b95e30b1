import { existsSync, mkdirSync } from 'node:fs';
import { dirname } from 'node:path';
import Database from 'libsql';
import * as z from 'zod';
import { HodError, systemErrorCode } from '../core/errors';
import { digestSchema } from '../core/oci/digest';
import { emptyHead, openEntry, sealEntry, type Entry, type Head } from '../core/release/entry';
import { Facts, factsReadBy, foldEntry, type FactKey } from '../core/release/facts';
import type { Ledger } from './ledger';

const schemaVersion = 1;
const schema = `
  CREATE TABLE IF NOT EXISTS entries (
    product TEXT NOT NULL, seq INTEGER NOT NULL, hash TEXT NOT NULL, text TEXT NOT NULL,
    PRIMARY KEY (product, seq)
  ) WITHOUT ROWID;
  CREATE TABLE IF NOT EXISTS facts (
    product TEXT NOT NULL, kind TEXT NOT NULL, key TEXT NOT NULL, text TEXT NOT NULL,
    PRIMARY KEY (product, kind, key)
  ) WITHOUT ROWID;
  PRAGMA user_version = ${schemaVersion};
`;
/** How long to wait for another process that is writing, in milliseconds. */
const busyTimeout = 20_000;
/** Entries read at a time. */
const pageSize = 500;

const headRow = z.object({ seq: z.number(), hash: digestSchema });
const entryRow = z.object({ hash: digestSchema, text: z.string() });
const factRow = z.object({ text: z.string() });
const versionRow = z.object({ user_version: z.number() });

/** Where a SQLite ledger is, and what for. */
export interface SqliteLedgerOptions {
  /** The database file. */
  file: string;
  product: string;
  /** `read`: where the file does not exist it is not made, and the ledger is empty. */
  access: 'read' | 'write';
}

/**
 * Opens the ledger of a product in a SQLite file, and makes the file where it does not exist.
 *
 * Throws `unavailable` where the file cannot be opened or written, `corrupt` where it is not a ledger.
 */
export function openSqliteLedger({ file, product, access }: SqliteLedgerOptions): Ledger {
  const guarded = <T>(work: () => T): T => {
    try {
      return work();
    } catch (error) {
      throw ledgerError(error, file);
    }
  };
  const database = guarded(() => openDatabase(file, access));

  const selectHead = database.prepare('SELECT seq, hash FROM entries WHERE product = ? ORDER BY seq DESC LIMIT 1');
  const selectFact = database.prepare('SELECT text FROM facts WHERE product = ? AND kind = ? AND key = ?');
  const readHead = (): Head => headRow.optional().parse(selectHead.get(product)) ?? emptyHead;
  const readFacts = (keys: readonly FactKey[]): Facts => {
    const facts = new Facts();
    for (const key of keys) {
      const row = factRow.optional().parse(selectFact.get(product, key.kind, key.key));
      if (row !== undefined) {
        facts.load(key, row.text);
      }
    }
    return facts;
  };
  const appendEntry = (entry: Entry, expected: Head): boolean => {
    const head = readHead();
    if (head.seq !== expected.seq || head.hash !== expected.hash) {
      return false;
    }
    const { text, hash } = sealEntry(entry);
    database
      .prepare('INSERT INTO entries (product, seq, hash, text) VALUES (?, ?, ?, ?)')
      .run(product, entry.seq, hash, text);
    const upsert = database.prepare(
      'INSERT INTO facts (product, kind, key, text) VALUES (?, ?, ?, ?) ON CONFLICT DO UPDATE SET text = excluded.text',
    );
    for (const fact of foldEntry(entry, readFacts(factsReadBy(entry))).all()) {
      upsert.run(product, fact.key.kind, fact.key.key, fact.text);
    }
    return true;
  };
  /** Runs work in one transaction. The error of the work is what is thrown, also where SQLite has rolled back by itself. */
  const transact = <T>(begin: 'BEGIN' | 'BEGIN IMMEDIATE', work: () => T): Promise<T> =>
    Promise.resolve().then(() =>
      guarded(() => {
        database.exec(begin);
        try {
          const result = work();
          database.exec('COMMIT');
          return result;
        } catch (error) {
          if (database.inTransaction) {
            database.exec('ROLLBACK');
          }
          throw error;
        }
      }),
    );

  return {
    read: (keys) => transact('BEGIN', () => ({ head: readHead(), facts: readFacts(keys) })),
    append: (entry, expected) => transact('BEGIN IMMEDIATE', () => appendEntry(entry, expected)),
    async *entries() {
      const page = database.prepare(
        'SELECT hash, text FROM entries WHERE product = ? AND seq > ? ORDER BY seq LIMIT ?',
      );
      let before = emptyHead;
      for (;;) {
        const after = before.seq;
        const rows = guarded(() => z.array(entryRow).parse(page.all(product, after, pageSize)));
        for (const row of rows) {
          yield openEntry(row, before);
          before = { seq: before.seq + 1, hash: row.hash };
        }
        if (rows.length < pageSize) {
          return;
        }
      }
    },
    close: () => Promise.resolve(void database.close()),
  };
}

function openDatabase(file: string, access: 'read' | 'write'): Database.Database {
  const absent = !existsSync(file);
  if (absent && access === 'write') {
    mkdirSync(dirname(file), { recursive: true });
  }
  const database = new Database(absent && access === 'read' ? ':memory:' : file, { timeout: busyTimeout });
  const { user_version: version } = versionRow.parse(database.prepare('PRAGMA user_version').get());
  if (version > schemaVersion) {
    throw new HodError('unavailable', {
      what: 'this ledger was written by a newer Hod',
      object: file,
      why: `it has the form ${version}, and this Hod knows up to ${schemaVersion}`,
      next: 'install the newer Hod',
    });
  }
  if (version < schemaVersion) {
    database.exec(schema);
  }
  return database;
}

/** What a person can do about the ways in which SQLite fails (its result codes, and those of the file system). */
function ledgerError(error: unknown, file: string): unknown {
  const code = systemErrorCode(error);
  if (error instanceof HodError || code === undefined) {
    return error;
  }
  const text = error instanceof Error ? error.message : String(error);
  const known = causes.find(({ pattern }) => pattern.test(`${code} ${text}`));
  return new HodError(
    known?.fault ?? 'unavailable',
    {
      what: 'the ledger cannot be used',
      object: file,
      why: known?.why ?? `${text} (${code})`,
      next: known?.next ?? 'correct this and run the command again',
    },
    { cause: error },
  );
}

const causes = [
  {
    pattern: /SQLITE_FULL|SQLITE_IOERR_WRITE|ENOSPC|disk is full/,
    fault: 'unavailable',
    why: 'the disk is full',
    next: 'free some space and run the command again; nothing was tagged',
  },
  {
    pattern: /READONLY|EROFS|EACCES|EPERM|readonly/,
    fault: 'unavailable',
    why: 'it, or its folder, is read-only',
    next: 'let this user write there, or name another file under `ledger:` in hod.yaml; nothing was tagged',
  },
  {
    pattern: /CANTOPEN|Unable to open connection/,
    fault: 'unavailable',
    why: 'it cannot be opened: its folder is read-only, or belongs to somebody else',
    next: 'let this user write there, or name another file under `ledger:` in hod.yaml; nothing was tagged',
  },
  {
    pattern: /SQLITE_BUSY|SQLITE_LOCKED|database is locked/,
    fault: 'unavailable',
    why: 'another process has kept it locked',
    next: 'run the command again',
  },
  {
    pattern: /NOTADB|CORRUPT|not a database|malformed/,
    fault: 'corrupt',
    why: 'it is not a ledger, or it is damaged',
    next: 'restore it from its backup, or correct `ledger:` in hod.yaml',
  },
] as const;
