import { setTimeout as delay } from 'node:timers/promises';
import { DatabaseError, Pool } from 'pg';
import * as z from 'zod';
import { HodError, messageOf, systemErrorCode } from '../../core/errors';
import { retrying } from '../../core/retrying';
import type { Head } from '../../core/release/entry';
import type { Ledger } from '../ledger';
import { ledgerForms, newerForm } from '../forms';
import { ledgerProblem, type LedgerCause } from '../problems';
import { refoldAll, replaceFact, SqlLedger, type Batch, type LedgerDatabase, type Sql, type SqlValue } from './sql';

/** How long to wait, in milliseconds: for a connection, and for one answer. */
const patience = { connect: 10_000, answer: 60_000 };
/** How often something is tried that failed in a way that may pass, and the first pause between, in milliseconds. */
const attempts = 5;
const firstDelay = 250;

/** Where a PostgreSQL ledger is. */
export interface PostgresLedgerOptions {
  /** `postgres://user@host/database`; a secret where it holds a password. */
  url: string;
  product: string;
}

/**
 * Opens the ledger of a product in a PostgreSQL database, and makes its tables where they do not exist.
 *
 * Throws `unavailable` where the server cannot be reached, `denied` where it refuses the login or the right.
 */
export async function openPostgresLedger({ url, product }: PostgresLedgerOptions): Promise<Ledger> {
  const database = new PostgresDatabase(url);
  try {
    await database.migrate();
  } catch (error) {
    await database.close();
    throw error;
  }
  return new SqlLedger(database, product);
}

const formRow = z.object({ form: z.number() });
const addedRow = z.object({ added: z.number() });
const presenceRow = z.object({ present: z.boolean() });

class PostgresDatabase implements LedgerDatabase {
  readonly prefix = 'hod_';
  private readonly pool: Pool;
  /** Names the server without the login. */
  private readonly label: string;

  constructor(url: string) {
    this.label = labelOf(url);
    this.pool = new Pool({
      connectionString: url,
      max: 2,
      connectionTimeoutMillis: patience.connect,
      query_timeout: patience.answer,
      application_name: 'hod',
    });
    // A connection that breaks while nothing uses it: the next use makes a new one.
    this.pool.on('error', () => undefined);
  }

  /** Brings the tables to the newest form; of several that try at once, one does it. */
  async migrate(): Promise<void> {
    const known = await this.retrying(() => this.form(this));
    if (known === ledgerForms.length) {
      return;
    }
    await this.retrying(() =>
      this.inTransaction(async (sql) => {
        await sql.rows(`SELECT pg_advisory_xact_lock(${lockSpace})`, []);
        const form = await this.form(sql);
        if (form > ledgerForms.length) {
          throw newerForm(this.label, form);
        }
        await sql.rows(`CREATE TABLE IF NOT EXISTS ${this.prefix}form (form INTEGER NOT NULL)`, []);
        for (const change of ledgerForms.slice(form)) {
          await sql.rows(change(this.prefix), []);
        }
        await refoldAll(sql, this.prefix);
        await sql.rows(`DELETE FROM ${this.prefix}form`, []);
        await sql.rows(`INSERT INTO ${this.prefix}form VALUES (?)`, [ledgerForms.length]);
      }),
    );
  }

  rows(text: string, values: readonly SqlValue[]): Promise<unknown[]> {
    return this.retrying(async () => (await this.pool.query<object>(numbered(text), [...values])).rows);
  }

  /**
   * One statement, and so one round trip, and all or nothing: of two that write the same entry, the
   * second waits for the first, and then fails because it is there.
   */
  async append(product: string, { entries, facts }: Batch, expected: Head): Promise<boolean> {
    const before =
      expected.seq === 0
        ? { text: `NOT EXISTS (SELECT FROM ${this.prefix}entries WHERE product = ?)`, values: [product] }
        : {
            text: `EXISTS (SELECT FROM ${this.prefix}entries WHERE product = ? AND seq = ? AND hash = ?)`,
            values: [product, expected.seq, expected.hash ?? ''],
          };
    const text = `
      WITH added AS (
        INSERT INTO ${this.prefix}entries (product, seq, hash, text)
        SELECT * FROM (VALUES ${entries.map(() => '(?, ?::integer, ?, ?)').join(', ')}) AS entry
        WHERE ${before.text}
          AND NOT EXISTS (SELECT FROM ${this.prefix}entries WHERE product = ? AND seq = ?)
        RETURNING seq
      ), changed AS (
        INSERT INTO ${this.prefix}facts (product, kind, key, text)
        SELECT * FROM (VALUES ${facts.map(() => '(?, ?, ?, ?)').join(', ')}) AS fact
        WHERE (SELECT count(*) FROM added) = ?::integer
        ${replaceFact}
      )
      SELECT count(*)::integer AS added FROM added`;
    const values = [
      ...entries.flatMap((row) => [product, ...row]),
      ...before.values,
      product,
      expected.seq + 1,
      ...facts.flatMap((row) => [product, ...row]),
      entries.length,
    ];
    try {
      const { rows } = await this.pool.query<object>(numbered(text), values);
      return addedRow.parse(rows[0]).added === entries.length;
    } catch (error) {
      if (mayPass(error) || systemErrorCode(error) === uniqueViolation) {
        return false;
      }
      throw this.problem(error);
    }
  }

  close(): Promise<void> {
    return this.pool.end();
  }

  private async form(sql: Sql): Promise<number> {
    const look = `SELECT count(*) > 0 AS present FROM pg_tables WHERE tablename = ? AND schemaname = ANY (current_schemas(false))`;
    const [there] = await sql.rows(look, [`${this.prefix}form`]);
    if (!presenceRow.parse(there).present) {
      return 0;
    }
    return formRow.optional().parse((await sql.rows(`SELECT form FROM ${this.prefix}form`, []))[0])?.form ?? 0;
  }

  /** Runs work again for as long as it fails in a way that may pass. */
  private retrying<T>(work: () => Promise<T>): Promise<T> {
    return retrying(work, async (error, attempt) => {
      if (error instanceof HodError || error instanceof z.ZodError) {
        throw error;
      }
      if (!mayPass(error) || attempt === attempts) {
        throw this.problem(error, mayPass(error) ? `tried ${attempts} times` : undefined);
      }
      await delay(firstDelay * 2 ** (attempt - 1));
    });
  }

  private async inTransaction<T>(work: (sql: Sql) => Promise<T>): Promise<T> {
    const client = await this.pool.connect();
    let broken = true;
    try {
      await client.query('BEGIN');
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

/** Faults of the connection, and of a server that is ending, starting or full (SQLSTATE classes 08, 53 and 57P). */
function mayPass(error: unknown): boolean {
  if (error instanceof DatabaseError) {
    return /^(08|53300|57P0|40001|40P01)/.test(error.code ?? '');
  }
  return !(error instanceof TypeError) && !/^(ENOTFOUND|ERR_)/.test(systemErrorCode(error) ?? '');
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
