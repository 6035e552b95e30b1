import { existsSync, mkdirSync } from 'node:fs';
import { dirname } from 'node:path';
import { setTimeout as delay } from 'node:timers/promises';
import Database from 'libsql';
import * as z from 'zod';
import { HodError, messageOf, systemErrorCode } from '../../core/errors';
import { digestSchema } from '../../core/oci/digest';
import { retrying } from '../../core/retrying';
import { emptyHead, type Head } from '../../core/release/entry';
import type { Ledger } from '../ledger';
import { ledgerForms, newerForm } from '../forms';
import { ledgerProblem, type LedgerCause } from '../problems';
import {
  insertEntries,
  insertFacts,
  refoldAll,
  SqlLedger,
  type Batch,
  type LedgerDatabase,
  type SqlValue,
  type Statement,
} from './sql';

/**
 * How long to wait for another process that is writing, in milliseconds: in all, and each time
 * within SQLite, where nothing else goes on meanwhile.
 */
const patience = { all: 60_000, blocked: 2_000 };

const headRow = z.object({ seq: z.number(), hash: digestSchema });
const formRow = z.object({ user_version: z.number() });

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
export async function openSqliteLedger({ file, product, access }: SqliteLedgerOptions): Promise<Ledger> {
  const absent = !existsSync(file);
  try {
    if (absent && access === 'write') {
      mkdirSync(dirname(file), { recursive: true });
    }
    const database = new SqliteDatabase(absent && access === 'read' ? ':memory:' : file);
    await database.migrate();
    return new SqlLedger(database, product);
  } catch (error) {
    throw ledgerError(error, file);
  }
}

class SqliteDatabase implements LedgerDatabase {
  readonly prefix = '';
  private readonly connection: Database.Database;

  constructor(private readonly file: string) {
    this.connection = new Database(file, { timeout: patience.blocked });
  }

  /** Brings the file to the newest form. */
  async migrate(): Promise<void> {
    if ((await this.patiently(() => this.form())) === ledgerForms.length) {
      return;
    }
    // Those who read and the one who writes do not keep each other waiting then (https://sqlite.org/wal.html).
    await this.patiently(() => this.connection.exec('PRAGMA journal_mode = WAL'));
    await this.patiently(() => this.connection.exec('BEGIN IMMEDIATE'));
    try {
      const form = this.form();
      if (form > ledgerForms.length) {
        throw newerForm(this.file, form);
      }
      for (const change of ledgerForms.slice(form)) {
        this.connection.exec(change(this.prefix));
      }
      await refoldAll({ rows: (text, values) => Promise.resolve(this.run({ text, values })) }, this.prefix);
      this.connection.exec(`PRAGMA user_version = ${ledgerForms.length}`);
      this.connection.exec('COMMIT');
    } catch (error) {
      this.rollBack();
      throw error;
    }
  }

  rows(text: string, values: readonly SqlValue[]): Promise<unknown[]> {
    return this.patiently(() => this.run({ text, values }));
  }

  append(product: string, { entries, facts }: Batch, expected: Head): Promise<boolean> {
    return this.patiently(() => {
      this.connection.exec('BEGIN IMMEDIATE');
      try {
        const select = `SELECT seq, hash FROM entries WHERE product = ? ORDER BY seq DESC LIMIT 1`;
        const head = headRow.optional().parse(this.run({ text: select, values: [product] })[0]) ?? emptyHead;
        const follows = head.seq === expected.seq && head.hash === expected.hash;
        if (follows) {
          insertEntries(this.prefix, product, entries).forEach((statement) => this.run(statement));
          insertFacts(this.prefix, product, facts).forEach((statement) => this.run(statement));
        }
        this.connection.exec('COMMIT');
        return follows;
      } catch (error) {
        this.rollBack();
        throw error;
      }
    });
  }

  private run({ text, values }: Statement): unknown[] {
    return this.connection.prepare(text).all(...values);
  }

  /** SQLite may have rolled back by itself; the error that led here is the one that counts. */
  private rollBack(): void {
    if (this.connection.inTransaction) {
      this.connection.exec('ROLLBACK');
    }
  }

  /** Does work again for as long as another process keeps the file locked. */
  private async patiently<T>(work: () => T): Promise<T> {
    const deadline = performance.now() + patience.all;
    return retrying(work, async (error) => {
      if (!isBusy(error) || performance.now() > deadline) {
        throw ledgerError(error, this.file);
      }
      await delay(20 * Math.random());
    });
  }

  close(): Promise<void> {
    return Promise.resolve(void this.connection.close());
  }

  private form(): number {
    return formRow.parse(this.connection.prepare('PRAGMA user_version').get()).user_version;
  }
}

function isBusy(error: unknown): boolean {
  return /SQLITE_BUSY|SQLITE_LOCKED|database is locked/.test(`${systemErrorCode(error) ?? ''} ${String(error)}`);
}

/** What a person can do about the ways in which SQLite fails (its result codes, and those of the file system). */
function ledgerError(error: unknown, file: string): unknown {
  const code = systemErrorCode(error);
  if (error instanceof HodError || code === undefined) {
    return error;
  }
  return ledgerProblem(error, { label: file, says: `${code} ${messageOf(error)}`, causes });
}

const causes: readonly LedgerCause[] = [
  {
    pattern: /SQLITE_FULL|SQLITE_IOERR_WRITE|SQLITE_IOERR_SHM|ENOSPC|disk is full/,
    code: 'ledger-unavailable',
    why: 'the disk is full',
    next: 'free some space and run the command again; nothing was tagged',
  },
  {
    pattern: /READONLY|EROFS|EACCES|EPERM|readonly/,
    code: 'ledger-unavailable',
    why: 'it, or its folder, is read-only',
    next: 'let this user write there, or name another file under `ledger:` in hod.yaml; nothing was tagged',
  },
  {
    pattern: /CANTOPEN|Unable to open connection/,
    code: 'ledger-unavailable',
    why: 'it cannot be opened: its folder is read-only, or belongs to somebody else',
    next: 'let this user write there, or name another file under `ledger:` in hod.yaml; nothing was tagged',
  },
  {
    pattern: /SQLITE_BUSY|SQLITE_LOCKED|database is locked/,
    code: 'ledger-unavailable',
    why: 'another process has kept it locked',
    next: 'run the command again',
  },
  {
    pattern: /NOTADB|CORRUPT|not a database|malformed/,
    code: 'ledger-corrupt',
    why: 'it is not a ledger, or it is damaged',
    next: 'restore it from its backup, or correct `ledger:` in hod.yaml',
  },
];
