import { Client } from 'pg';
import { openPostgresLedger } from '../../src/ledger/postgres';
import { keepsALedger } from '../support/ledger-suite';
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

const open = (product: string) => openPostgresLedger({ url: server.url, product });

describe('a ledger in PostgreSQL', () => {
  keepsALedger({
    open,
    raw: (statement) => raw(statement('hod_entries')),
    clear: () => raw('DROP TABLE IF EXISTS hod_entries, hod_facts, hod_form'),
  });

  test('of several that find no tables, one makes them', async () => {
    const ledgers = await Promise.all(Array.from({ length: 8 }, () => open('skerry-line')));
    expect((await ledgers[0]?.read([]))?.head.seq).toBe(0);
    await Promise.all(ledgers.map((ledger) => ledger.close()));
  });

  test.each([
    ['a login that is refused', () => server.url.replace('una', 'eve'), 'denied', 'refuses the login'],
    ['no such database', () => server.url.replace(/postgres$/, 'other'), 'missing', 'no such database'],
    ['nobody listens', () => server.url.replace(String(server.port), '1'), 'unavailable', 'tried 5 times'],
    ['no such host', () => server.url.replace('localhost', 'ledger.skerry.invalid'), 'unavailable', 'no host'],
  ])('%s is told in those words, without the password', async (_, url, fault, why) => {
    const error: unknown = await openPostgresLedger({ url: url(), product: 'skerry-line' }).catch(
      (thrown: unknown) => thrown,
    );
    expect(error).toMatchObject({ fault, problem: { why: expect.stringContaining(why) } });
    expect(JSON.stringify(error)).not.toContain('not-asked-for');
  });
});
