import {
  accessSync,
  closeSync,
  constants,
  existsSync,
  mkdirSync,
  openSync,
  readSync,
  statSync,
  type Stats,
} from 'node:fs';
import { dirname } from 'node:path';
import { setTimeout as delay } from 'node:timers/promises';
import { pathToFileURL } from 'node:url';
import Database from 'libsql';
import * as z from 'zod';
import { HodError, messageOf, systemErrorCode } from '../../core/errors';
import { digestSchema } from '../../core/oci/digest';
import { retrying, tellingOnce } from '../../core/retrying';
import { emptyHead } from '../../core/ledger/entry';
import type { Ledger, LedgerOptions } from '../ledger';
import { isMade, ledgerForm, tablesOf } from '../form';
import { ledgerProblem, type LedgerCause } from '../problems';
import {
  dropTexts,
  insertEntries,
  insertFacts,
  rowsAs,
  SqlLedger,
  type Batch,
  type Dialect,
  type LedgerDatabase,
  type Sql,
  type SqlValue,
} from './sql';

/**
 * How long to wait for another process that is writing, in milliseconds: in all, and each time
 * within SQLite, where nothing else goes on meanwhile.
 */
const patience = { all: 60_000, blocked: 2_000 };

/** Marks a file as a ledger of ours (https://sqlite.org/pragma.html#pragma_application_id): "Hodl". */
const applicationId = 0x486f646c;

const headRow = z.object({ seq: z.number(), hash: digestSchema });
const formRow = z.object({ user_version: z.number() });
const countRow = z.object({ count: z.number() });

const dialect: Dialect = {
  prefix: '',
  elements: 'json_each(?)',
  // SQLite takes the tables of a CROSS JOIN in the order in which they stand (https://sqlite.org/optoverview.html).
  namedFacts: `json_each(?) CROSS JOIN facts AS f
    WHERE f.product = ? AND f.kind = value ->> 0 AND f.key = value ->> 1`,
};

/** Where a SQLite ledger is, and what for. */
export interface SqliteLedgerOptions extends LedgerOptions {
  /** The database file. */
  file: string;
}

/**
 * Opens the ledger of a product in a SQLite file. To write, the file is made where it does not
 * exist; to read, nothing is touched, and no right to write is needed.
 *
 * Throws `unavailable` where the file cannot be opened or written, `corrupt` where it is not a
 * ledger, `refused` where it is another program's.
 */
export async function openSqliteLedger({ file, product, access, waiting }: SqliteLedgerOptions): Promise<Ledger> {
  try {
    const kind = kindOfFile(file);
    if (kind !== 'absent') {
      refuseForeign(file, kind);
    }
    if (access === 'read') {
      const database = kind === 'absent' || kind === 'empty' ? undefined : openToRead(file);
      if (database !== undefined) {
        rememberOpened(file);
      }
      return new SqlLedger(new SqliteDatabase(file, database, waiting), product);
    }
    mkdirSync(dirname(file), { recursive: true });
    const database = new SqliteDatabase(file, open(file), waiting);
    rememberOpened(file);
    await database.make();
    await database.mayWrite();
    return new SqlLedger(database, product);
  } catch (error) {
    throw ledgerError(error, file);
  }
}

function open(place: string): Database.Database {
  return new Database(place, { timeout: patience.blocked });
}

/** Remembers that a file is a ledger of ours that this process has open. */
function rememberOpened(file: string): void {
  const found = statSync(file, { throwIfNoEntry: false });
  if (found !== undefined) {
    openedHere.add(identityOf(found));
  }
}

function identityOf({ dev, ino }: Stats): string {
  return `${dev} ${ino}`;
}

/** Without the right to write beside the file there can be no index of its log: where it has no log, none is needed. */
function openToRead(file: string): Database.Database {
  const address = pathToFileURL(file).href;
  const database = open(`${address}?mode=ro`);
  try {
    database.prepare('SELECT count(*) FROM sqlite_master').get();
    return database;
  } catch (error) {
    database.close();
    if (!/CANTOPEN/.test(systemErrorCode(error) ?? '') || existsSync(`${file}-wal`)) {
      throw error;
    }
    return open(`${address}?mode=ro&immutable=1`);
  }
}

type FileKind = 'ours' | 'unmarked' | 'foreign' | 'empty' | 'absent';

/** The files that this process has opened as ledgers, by device and number. */
const openedHere = new Set<string>();

/**
 * What a file is, by its first bytes (https://sqlite.org/fileformat2.html, "The Database Header"). They are read before SQLite opens
 * it for the first time, and never again: to close a file takes all locks from it that this process has
 * (https://sqlite.org/howtocorrupt.html, "Posix advisory locks canceled by a separate thread doing close()").
 */
function kindOfFile(file: string): FileKind {
  const found = statSync(file, { throwIfNoEntry: false });
  if (found === undefined) {
    return 'absent';
  }
  if (!found.isFile()) {
    throw notOurs(file, found.isDirectory() ? 'it is a folder' : 'it is a pipe or a device');
  }
  if (openedHere.has(identityOf(found))) {
    return 'ours';
  }
  const header = Buffer.alloc(100);
  if (found.size === 0) {
    return 'empty';
  }
  const handle = openSync(file, 'r');
  try {
    readSync(handle, header);
  } finally {
    closeSync(handle);
  }
  if (header.toString('latin1', 0, 16) !== 'SQLite format 3\0') {
    throw ledgerProblem(undefined, { label: file, says: 'SQLITE_NOTADB', causes });
  }
  const id = header.readUInt32BE(68);
  return id === applicationId ? 'ours' : id === 0 ? 'unmarked' : 'foreign';
}

/** Throws where a file is another program's. One that bears no mark, and holds nothing, is nobody's yet. */
function refuseForeign(file: string, kind: FileKind): void {
  if (kind === 'foreign') {
    throw notOurs(file, 'it is marked as the file of another program');
  }
  if (kind !== 'unmarked') {
    return;
  }
  const database = openToRead(file);
  try {
    const [{ count } = { count: 0 }] = rowsAs(
      countRow,
      database.prepare('SELECT count(*) AS count FROM sqlite_master').all(),
    );
    if (count > 0) {
      throw notOurs(file, 'it holds tables of another program');
    }
  } finally {
    database.close();
  }
}

function notOurs(object: string, why: string): HodError {
  return new HodError('not-our-file', {
    what: 'this file is not a ledger of Hod',
    object,
    why: `${why}; nothing in it was changed`,
    next: 'name another file under `ledger:` in hod.yaml',
  });
}

class SqliteDatabase implements LedgerDatabase {
  readonly dialect = dialect;

  /** @param connection Undefined where there is no file, and none is to be made. */
  constructor(
    readonly label: string,
    private readonly connection: Database.Database | undefined,
    private readonly waiting: (text: string) => void,
  ) {}

  get isMade(): boolean {
    return isMade(this.connection === undefined ? 0 : this.form(), this.label);
  }

  /** Makes the tables, where they are not there; of several that try at once, one does it. */
  async make(): Promise<void> {
    if (await this.patiently(() => this.isMade)) {
      return;
    }
    // The mark comes first, while it still goes straight into the file.
    await this.patiently(() => this.open.exec(`PRAGMA application_id = ${applicationId}`));
    // Those who read and the one who writes do not keep each other waiting then (https://sqlite.org/wal.html).
    await this.patiently(() => this.open.exec('PRAGMA journal_mode = WAL'));
    await this.patiently(() => this.open.exec('BEGIN IMMEDIATE'));
    try {
      if (!this.isMade) {
        this.open.exec(tablesOf(this.dialect.prefix));
        this.open.exec(`PRAGMA user_version = ${ledgerForm}`);
      }
      this.open.exec('COMMIT');
    } catch (error) {
      this.rollBack();
      throw error;
    }
  }

  rows(text: string, values: readonly SqlValue[]): Promise<unknown[]> {
    return this.patiently(() => this.run(text, values));
  }

  async append(batches: readonly Batch[]): Promise<boolean> {
    const appended = await this.patiently(() => {
      this.open.exec('BEGIN IMMEDIATE');
      try {
        const follow = batches.every((batch) => this.follows(batch));
        if (follow) {
          batches.forEach((batch) => this.insert(batch));
        }
        this.open.exec('COMMIT');
        return follow;
      } catch (error) {
        this.rollBack();
        throw error;
      }
    });
    if (appended && batches.some(({ compacted }) => compacted !== undefined)) {
      this.giveBackRoom();
    }
    return appended;
  }

  private follows({ product, expected }: Batch): boolean {
    const select = `SELECT seq, hash FROM entries WHERE product = ? ORDER BY seq DESC LIMIT 1`;
    const head = rowsAs(headRow, this.run(select, [product]))[0] ?? emptyHead;
    return head.seq === expected.seq && head.hash === expected.hash;
  }

  private insert({ product, entries, facts, compacted }: Batch): void {
    this.run(insertEntries(dialect), [product, entries]);
    this.run(insertFacts(dialect), [product, facts]);
    if (compacted !== undefined) {
      this.run(dropTexts(dialect), [product, compacted]);
    }
  }

  /** Makes the file as small as what it holds. Where others use it, its free pages are used for what comes next. */
  private giveBackRoom(): void {
    try {
      this.open.exec('VACUUM');
    } catch (error) {
      if (!isBusy(error)) {
        this.waiting(`the ledger keeps its size: ${messageOf(error)} (${this.label})`);
      }
    }
  }

  async mayWrite(): Promise<void> {
    // Where the file or folders on its way are not there yet, the nearest that is there is where they are made.
    let place = this.connection === undefined ? dirname(this.label) : this.label;
    while (!existsSync(place)) {
      place = dirname(place);
    }
    try {
      [place, ...(place === this.label ? [dirname(place)] : [])].forEach((each) => accessSync(each, constants.W_OK));
    } catch (error) {
      throw ledgerError(error, this.label);
    }
  }

  async snapshot<T>(work: (sql: Sql) => Promise<T>): Promise<T> {
    await this.patiently(() => this.open.exec('BEGIN'));
    try {
      return await work(this);
    } finally {
      this.rollBack();
    }
  }

  close(): Promise<void> {
    return Promise.resolve(void this.connection?.close());
  }

  private get open(): Database.Database {
    if (this.connection === undefined) {
      throw new Error('a ledger that does not exist is written');
    }
    return this.connection;
  }

  private run(text: string, values: readonly SqlValue[]): unknown[] {
    return this.open.prepare(text).all(...values);
  }

  /** SQLite may have rolled back by itself; the error that led here is the one that counts. */
  private rollBack(): void {
    if (this.open.inTransaction) {
      this.open.exec('ROLLBACK');
    }
  }

  /** Does work again for as long as another process keeps the file locked. */
  private async patiently<T>(work: () => T): Promise<T> {
    const begun = performance.now();
    const notice = tellingOnce(this.waiting);
    return retrying(work, async (error) => {
      const waited = performance.now() - begun;
      if (!isBusy(error) || waited > patience.all) {
        throw ledgerError(error, this.label);
      }
      notice(waited, `waiting for another process that keeps the ledger locked (${this.label})`);
      await delay(20 * Math.random());
    });
  }

  private form(): number {
    return rowsAs(formRow, this.open.prepare('PRAGMA user_version').all())[0]?.user_version ?? 0;
  }
}

function isBusy(error: unknown): boolean {
  return /SQLITE_BUSY|SQLITE_LOCKED|database is locked/.test(`${systemErrorCode(error) ?? ''} ${String(error)}`);
}

/** What a person can do about the ways in which SQLite fails (its result codes, and those of the file system). */
function ledgerError(error: unknown, file: string): unknown {
  // What the binding says of the system itself has no code.
  const code = systemErrorCode(error) ?? /too many open files/i.exec(messageOf(error))?.[0];
  if (error instanceof HodError || code === undefined) {
    return error;
  }
  return ledgerProblem(error, { label: file, says: `${code} ${messageOf(error)}`, causes });
}

const causes: readonly LedgerCause[] = [
  {
    pattern: /too many open files|EMFILE/i,
    code: 'ledger-unavailable',
    why: 'this process may not open more files',
    next: 'let it open more (`ulimit -n`), and run the command again',
  },
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
    why: 'it cannot be opened: its folder is read-only or belongs to somebody else, or this process may open no more files',
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
