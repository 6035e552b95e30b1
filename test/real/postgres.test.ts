import { Client } from 'pg';
import type { ErrorCode } from '../../src/core/errors';
import { failing } from '../support/seen-errors';
import { openPostgresLedger, PostgresPools } from '../../src/ledger/engines/postgres';
import { keepsALedger, tampering } from '../support/ledger-suite';
import { RealPostgres } from '../support/real-postgres';
import { GitRemoteRepository } from '../support/git-remote';
import { hodJson } from '../support/hod';
import { sandboxWorld } from '../support/world';

let server: RealPostgres;
const pools = new PostgresPools();
beforeAll(async () => (server = await RealPostgres.create()));
afterAll(async () => {
  await pools.close();
  await server.close();
});

async function raw(sql: string): Promise<void> {
  const client = new Client({ connectionString: server.url });
  await client.connect();
  await client.query(sql);
  await client.end();
}

const open = (product: string) =>
  openPostgresLedger({ url: server.url, pools, product, access: 'write', waiting: () => undefined });

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
    [
      'no such host',
      () => `${server.url.replace('localhost', 'ledger.skerry.invalid')}?sslmode=disable`,
      'ledger-unavailable',
      'no host',
    ],
  ])('%s is told in those words, without the password', async (_, url, code, why) => {
    const error = await failing(code, () =>
      openPostgresLedger({ url: url(), pools, product: 'skerry-line', access: 'read', waiting: () => undefined }),
    );
    expect(error.problem.why).toContain(why);
    expect(JSON.stringify(error)).not.toContain('not-asked-for');
  });

  test('the program: a login that only reads is told so, and reads; a ledger moves from a file, to here, to git', async () => {
    await raw('DROP TABLE IF EXISTS hod_entries, hod_facts, hod_form');
    const { world, requests, close } = await sandboxWorld();
    const remote = new GitRemoteRepository({ partial: false });
    const inGit = `{ git: { remote: "file://${remote.path}" } }`;
    world.env = { SKERRY_LEDGER: server.url };
    await world.publish();
    const move = async (from: string, to: string) => {
      await world.configure(/(ledger: .*)?$/, `ledger: ${to}`);
      return hodJson('ledger-copy', ['ledger', 'import', '--from', from], world.options);
    };
    const inPostgres = '{ postgres: { env: SKERRY_LEDGER } }';
    expect(await move('{ file: .hod/ledger.db }', inPostgres)).toMatchObject({ written: 1, to: 'PostgreSQL' });
    await world.promote('uat');

    await raw('CREATE ROLE reader LOGIN; GRANT SELECT ON hod_entries, hod_facts, hod_form TO reader');
    world.env = { SKERRY_LEDGER: server.url.replace('una', 'reader') };
    expect((await world.status('dev')).environments[0]?.components[0]).toMatchObject({ version: '2.4.0' });
    const checked = await world.hod('access', 'check', '--json');
    expect(checked.code).toBe(5);
    expect(JSON.parse(checked.stdout)).toMatchObject({
      ledger: { read: { allowed: 'yes' }, append: { allowed: 'no', code: 'ledger-denied' } },
    });
    const sent = requests.prod.length;
    await world.fails('ledger-denied', 'promote', 'prod');
    expect(requests.prod.slice(sent).filter(({ method }) => !['GET', 'HEAD'].includes(method))).toEqual([]);

    world.env = { SKERRY_LEDGER: server.url };
    expect(await move(inPostgres, inGit)).toMatchObject({ written: 2, from: 'PostgreSQL' });
    await world.promote('prod');
    expect(await move(inGit, '{ file: back.db }')).toMatchObject({
      written: 3,
      to: expect.stringMatching(/back\.db$/),
    });
    await raw('DROP TABLE hod_entries, hod_facts, hod_form; DROP ROLE reader');
    await remote.remove();
    await close();
  });
});
