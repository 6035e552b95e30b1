import { Client } from 'pg';
import type { ErrorCode } from '../../src/core/errors';
import { failing } from '../support/seen-errors';
import { openPostgresLedger } from '../../src/ledger/engines/postgres';
import { keepsALedger, tampering } from '../support/ledger-suite';
import { RealPostgres } from '../support/real-postgres';

let server: RealPostgres;
beforeAll(async () => (server = await RealPostgres.create()));
afterAll(() => server.close());

async function raw(sql: string): Promise<void> {
  const client = new Client({ connectionString: server.url });
  await client.connect();
  await client.query(sql);
  await client.end();
}

const open = (product: string) =>
  openPostgresLedger({ url: server.url, product, access: 'write', waiting: () => undefined });

describe('a ledger in PostgreSQL', () => {
  keepsALedger({
    open,
    tamper: (how) => raw(tampering('hod_entries', how)),
    clear: () => raw('DROP TABLE IF EXISTS hod_entries, hod_facts, hod_form'),
  });

  test('of several that find no tables, one makes them', async () => {
    const ledgers = await Promise.all(Array.from({ length: 8 }, () => open('skerry-line')));
    expect((await ledgers[0]?.read([]))?.head.seq).toBe(0);
    await Promise.all(ledgers.map((ledger) => ledger.close()));
  });

  test.each<[string, () => string, ErrorCode, string]>([
    ['a login that is refused', () => server.url.replace('una', 'eve'), 'ledger-denied', 'refuses the login'],
    ['no such database', () => server.url.replace(/postgres$/, 'other'), 'ledger-missing', 'no such database'],
    ['nobody listens', () => server.url.replace(String(server.port), '1'), 'ledger-unavailable', 'tried 5 times'],
    ['no such host', () => server.url.replace('localhost', 'ledger.skerry.invalid'), 'ledger-unavailable', 'no host'],
  ])('%s is told in those words, without the password', async (_, url, code, why) => {
    const error = await failing(code, () =>
      openPostgresLedger({ url: url(), product: 'skerry-line', access: 'read', waiting: () => undefined }),
    );
    expect(error.problem.why).toContain(why);
    expect(JSON.stringify(error)).not.toContain('not-asked-for');
  });
});
