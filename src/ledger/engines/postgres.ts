import { setTimeout as delay } from 'node:timers/promises';
import { DatabaseError, Pool } from 'pg';
import * as z from 'zod';
import { isThisMachine } from '../../core/access/destinations';
import { HodError, messageOf, systemErrorCode } from '../../core/errors';
import { retrying } from '../../core/retrying';
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

/** Timeouts in milliseconds: for a connection, for one answer, and for all tries together. */
const patience = { connect: 10_000, answer: 60_000, all: 60_000 };
/** How often something is tried that failed in a way that may pass, and the first pause between, in milliseconds. */
const attempts = 5;
const firstDelay = 250;

/** Where a PostgreSQL ledger is. */
export interface PostgresLedgerOptions extends LedgerOptions {
  /** `postgres://user@host/database`; a secret where it holds a password. */
  url: string;
  /** The connections that it uses; whoever gives them closes them. */
  pools: PostgresPools;
}

/** The most connections of a run to one database. */
const mostConnections = 4;

/** Connections to databases, which the ledgers of a run share. */
export class PostgresPools {
  private readonly pools = new Map<string, Pool>();

  /** The connections to a database. */
  of(url: string): Pool {
    const pool = this.pools.get(url) ?? this.open(url);
    this.pools.set(url, pool);
    return pool;
  }

  /** Closes every connection. */
  async close(): Promise<void> {
    await Promise.all([...this.pools.values()].map((pool) => pool.end()));
  }

  private open(url: string): Pool {
    const pool = new Pool({
      connectionString: url,
      max: mostConnections,
      connectionTimeoutMillis: patience.connect,
      query_timeout: patience.answer,
      application_name: 'hod',
    });
    // A connection that breaks while nothing uses it: the next use makes a new one.
    pool.on('error', () => undefined);
    return pool;
  }
}

/**
 * Opens the ledger of a product in a PostgreSQL database. To write, its tables are made where they
 * do not exist; to read, nothing is made or changed.
 *
 * Throws `unavailable` where the server cannot be reached, `denied` where it refuses the login or the right.
 */
export async function openPostgresLedger(options: PostgresLedgerOptions): Promise<Ledger> {
  const { url, pools, product, access, waiting } = options;
  const label = labelOf(url);
  refuseOpen(url, label);
  const database = new PostgresDatabase(pools.of(url), label, waiting);
  await database.findForm();
  if (access === 'write') {
    await database.make();
    await database.mayWrite();
  }
  return new SqlLedger(database, product);
}

const formRow = z.object({ form: z.number() });
const addedRow = z.object({ added: z.number() });
const presenceRow = z.object({ present: z.boolean() });

const dialect: Dialect = {
  prefix: 'hod_',
  elements: 'jsonb_array_elements(CAST(? AS jsonb)) AS value',
  // PostgreSQL does not know how short the array is, and would rather read every fact; the limit keeps it to the key.
  namedFacts: `json_array_elements(CAST(? AS json)) AS value CROSS JOIN LATERAL (
    SELECT * FROM hod_facts WHERE product = ? AND kind = value ->> 0 AND key = value ->> 1 LIMIT 1) AS f`,
};

class PostgresDatabase implements LedgerDatabase {
  readonly dialect = dialect;
  isMade = false;

  constructor(
    private readonly pool: Pool,
    readonly label: string,
    private readonly waiting: (text: string) => void,
  ) {}

  /** Finds out whether the tables are there. Throws `ledger-other-form` for tables of a form that is not known. */
  async findForm(): Promise<void> {
    this.isMade = isMade(await this.retrying(() => this.form(this.once)), this.label);
  }

  /** Makes the tables, where they are not there; of several that try at once, one does it. */
  async make(): Promise<void> {
    if (this.isMade) {
      return;
    }
    const { prefix } = dialect;
    await this.retrying(() =>
      this.inTransaction('', async (sql) => {
        await sql.rows(`SELECT pg_advisory_xact_lock(${lockSpace})`, []);
        if (isMade(await this.form(sql), this.label)) {
          return;
        }
        await sql.rows(tablesOf(prefix), []);
        await sql.rows(`CREATE TABLE ${prefix}form (form INTEGER NOT NULL)`, []);
        await sql.rows(`INSERT INTO ${prefix}form VALUES (?)`, [ledgerForm]);
      }),
    );
    this.isMade = true;
  }

  rows(text: string, values: readonly SqlValue[]): Promise<unknown[]> {
    return this.retrying(() => this.once.rows(text, values));
  }

  async append(batches: readonly Batch[]): Promise<boolean> {
    const [first] = batches;
    try {
      // Two runs that write for the same products do so in the same order: neither waits for what the other holds.
      const ordered = batches.toSorted((a, b) => (a.product < b.product ? -1 : 1));
      return first !== undefined && batches.length === 1
        ? await isAdded(first, this.once)
        : await this.inTransaction('', async (sql) => {
            for (const batch of ordered) {
              if (!(await isAdded(batch, sql))) {
                throw new NotFirst();
              }
            }
            return true;
          });
    } catch (error) {
      if (error instanceof NotFirst || mayPass(error) || systemErrorCode(error) === uniqueViolation) {
        return false;
      }
      throw error instanceof HodError ? error : this.problem(error);
    }
  }

  /** Asks about the rights to the tables, or to make them where they are not there. */
  async mayWrite(): Promise<void> {
    const { prefix } = dialect;
    const right = this.isMade
      ? `has_table_privilege('${prefix}entries', 'INSERT') AND has_table_privilege('${prefix}facts', 'INSERT, UPDATE')`
      : `has_schema_privilege(current_schema(), 'CREATE')`;
    const asked = `SELECT (${right}) AND NOT pg_is_in_recovery() AS present`;
    const [answer] = rowsAs(presenceRow, await this.rows(asked, []));
    if (answer?.present !== true) {
      throw ledgerProblem(new Error('no right to write'), { label: this.label, says: insufficientPrivilege, causes });
    }
  }

  snapshot<T>(work: (sql: Sql) => Promise<T>): Promise<T> {
    return this.retrying(() => this.inTransaction('ISOLATION LEVEL REPEATABLE READ READ ONLY', work));
  }

  close(): Promise<void> {
    // Other ledgers of the run use the connections.
    return Promise.resolve();
  }

  private readonly once: Sql = {
    rows: async (text, values) => (await this.pool.query<object>(numbered(text), [...values])).rows,
  };

  private async form(sql: Sql): Promise<number> {
    const { prefix } = dialect;
    const findForm = `SELECT count(*) > 0 AS present FROM pg_tables WHERE tablename = ? AND schemaname = ANY (current_schemas(false))`;
    const [there] = rowsAs(presenceRow, await sql.rows(findForm, [`${prefix}form`]));
    if (there?.present !== true) {
      return 0;
    }
    return rowsAs(formRow, await sql.rows(`SELECT form FROM ${prefix}form`, []))[0]?.form ?? 0;
  }

  /** Runs work again for as long as it fails in a way that may pass. */
  private retrying<T>(work: () => Promise<T>): Promise<T> {
    const begun = performance.now();
    return retrying(work, async (error, attempt) => {
      if (error instanceof HodError) {
        throw error;
      }
      if (!mayPass(error) || attempt === attempts || performance.now() - begun > patience.all) {
        throw this.problem(error, mayPass(error) ? `tried ${attempt} times` : undefined);
      }
      if (attempt > 2) {
        this.waiting(`waiting for the ledger: ${this.label} does not answer`);
      }
      await delay(firstDelay * 2 ** (attempt - 1));
    });
  }

  private async inTransaction<T>(kind: string, work: (sql: Sql) => Promise<T>): Promise<T> {
    const client = await this.pool.connect();
    let broken = true;
    try {
      await client.query(`BEGIN ${kind}`);
      const result = await work({
        rows: async (text, values) => (await client.query<object>(numbered(text), [...values])).rows,
      });
      await client.query('COMMIT');
      broken = false;
      return result;
    } finally {
      // Ending a connection within a transaction rolls back.
      client.release(broken);
    }
  }

  private problem(error: unknown, tried?: string): HodError {
    return ledgerProblem(error, { label: this.label, says: systemErrorCode(error) ?? messageOf(error), causes, tried });
  }
}

/** An entry was not the first one to follow the head: what was written with it is taken back. */
class NotFirst extends Error {}

/**
 * Adds the rows of a batch in one statement, and so in one round trip, all or nothing: of two that write the same entry, the
 * second waits for the first, and then fails because it is there. Answers whether they were added.
 */
async function isAdded(batch: Batch, sql: Sql): Promise<boolean> {
  const { product, expected, count, entries, facts, compacted } = batch;
  const { prefix } = dialect;
  const before =
    expected.seq === 0
      ? { text: `NOT EXISTS (SELECT FROM ${prefix}entries WHERE product = ?)`, values: [product] }
      : {
          text: `EXISTS (SELECT FROM ${prefix}entries WHERE product = ? AND seq = ? AND hash = ?)`,
          values: [product, expected.seq, expected.hash ?? ''],
        };
  const free = `NOT EXISTS (SELECT FROM ${prefix}entries WHERE product = ? AND seq = ?)`;
  const text = `
    WITH added AS (${insertEntries(dialect, `WHERE ${before.text} AND ${free}`)} RETURNING seq),
    changed AS (${insertFacts(dialect, 'WHERE (SELECT count(*) FROM added) = CAST(? AS integer)')})${
      compacted === undefined
        ? ''
        : `,
    dropped AS (${dropTexts(dialect)} AND (SELECT count(*) FROM added) = CAST(? AS integer))`
    }
    SELECT CAST(count(*) AS integer) AS added FROM added`;
  const values = [
    product,
    entries,
    ...before.values,
    product,
    expected.seq + 1,
    product,
    facts,
    count,
    ...(compacted === undefined ? [] : [product, compacted, count]),
  ];
  return rowsAs(addedRow, await sql.rows(text, values))[0]?.added === count;
}

/** The login lacks a right (SQLSTATE). */
const insufficientPrivilege = '42501';
/** The entry is there already (SQLSTATE). */
const uniqueViolation = '23505';

/** Any number that other programs do not use for their locks. */
const lockSpace = 7_403_113;

/** `?`, as statements are written for both engines, in the form that PostgreSQL takes. */
function numbered(text: string): string {
  let count = 0;
  return text.replaceAll('?', () => `$${(count += 1)}`);
}

function labelOf(url: string): string {
  try {
    const { host, pathname } = new URL(url);
    return `PostgreSQL at ${host}${pathname}`;
  } catch {
    return 'PostgreSQL';
  }
}

/** To another machine nothing goes in the clear unless the URL says so. Throws `ledger-url-invalid`. */
function refuseOpen(url: string, label: string): void {
  const { host, searchParams } = URL.canParse(url) ? new URL(url) : { host: '', searchParams: new URLSearchParams() };
  const isNear = host === '' || isThisMachine(host) || host.startsWith('%2F') || searchParams.has('host');
  if (!isNear && !searchParams.has('sslmode') && !searchParams.has('ssl')) {
    throw new HodError('ledger-url-invalid', {
      what: 'the connection to the ledger would not be encrypted',
      object: label,
      why: 'its URL does not say `sslmode`, and it is on another machine',
      next: 'add `?sslmode=verify-full` to the URL; `?sslmode=disable` lets the login and all entries go in the clear',
    });
  }
}

/** Faults of the connection, and of a server that is ending, starting or full (SQLSTATE); nothing else may pass. */
function mayPass(error: unknown): boolean {
  if (error instanceof DatabaseError) {
    return /^(0800[0136]|53300|57P0[123]|40001|40P01|55P03)$/.test(error.code ?? '');
  }
  const code = systemErrorCode(error) ?? '';
  return (
    /^(ECONNREFUSED|ECONNRESET|EPIPE|ETIMEDOUT|EHOSTUNREACH|ENETUNREACH|EAI_AGAIN)$/.test(code) ||
    (error instanceof Error && /connection terminated|timeout|connection error|ended/i.test(error.message))
  );
}

const causes: readonly LedgerCause[] = [
  {
    pattern: /^28/,
    code: 'ledger-denied',
    why: 'the server refuses the login',
    next: 'correct the user name and password in the URL that `ledger:` in hod.yaml names',
  },
  {
    pattern: /^42501/,
    code: 'ledger-denied',
    why: 'this login may not use, or not make, the tables',
    next: 'give it the right to create and use tables',
  },
  {
    pattern: /^3D000/,
    code: 'ledger-missing',
    why: 'there is no such database',
    next: 'create it, or correct the URL that `ledger:` in hod.yaml names',
  },
  {
    pattern: /^(ECONNREFUSED|ECONNRESET|EPIPE|ETIMEDOUT|57P0|08)|terminated|timeout|ended/i,
    code: 'ledger-unavailable',
    why: 'the server does not answer, or broke off',
    next: 'start it, and run the command again',
  },
  {
    pattern: /^53/,
    code: 'ledger-unavailable',
    why: 'the server has no room left, on its disk or for connections',
    next: 'give it room, and run the command again',
  },
  {
    pattern: /^ENOTFOUND|^EAI_AGAIN/,
    code: 'ledger-unavailable',
    why: 'there is no host of this name',
    next: 'correct the URL that `ledger:` in hod.yaml names',
  },
  {
    pattern: /^25006/,
    code: 'ledger-unavailable',
    why: 'the server only lets others read',
    next: 'name the server that takes changes',
  },
];
