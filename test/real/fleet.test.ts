import { createServer } from 'node:http';
import { once } from 'node:events';
import type { AddressInfo } from 'node:net';
import { join } from 'node:path';
import { median, publishesAsAFleet, type FleetReport } from '../support/fleet';
import { passOn } from '../support/pass-on';
import { RealPostgres } from '../support/real-postgres';
import { sandboxWorld } from '../support/world';

let server: RealPostgres;
beforeAll(async () => (server = await RealPostgres.create()));
afterAll(() => server.close());

const size = { builds: 200, processes: 24 };
const ledger = '{ postgres: { env: SKERRY_LEDGER } }';

function tell(engine: string, { appends, repeated, killed, versions }: FleetReport): void {
  const text = `${appends.length} appends, median ${median(appends).toFixed(1)} ms, longest ${Math.max(...appends).toFixed(0)} ms`;
  process.stderr.write(`${engine}: ${text}; ${repeated} decided again, ${killed} killed, ${versions} versions\n`);
}

test('24 processes publish 200 builds with a ledger in PostgreSQL', async () => {
  const report = await publishesAsAFleet(ledger, { SKERRY_LEDGER: server.url }, size);
  tell('PostgreSQL', report);
  expect(report.killed).toBeGreaterThan(10);
  expect(report.versions).toBeGreaterThan(5);
}, 600_000);

test('24 processes publish 200 builds with a ledger in one SQLite file', async () => {
  const report = await publishesAsAFleet('{ file: ledger/ledger.db }', {}, size);
  tell('SQLite', report);
  expect(report.killed).toBeGreaterThan(10);
  expect(report.versions).toBeGreaterThan(5);
}, 600_000);

test('PostgreSQL is lost while content is carried: said clearly, nothing is tagged, and running again completes', async () => {
  const { world, requests, close } = await sandboxWorld();
  // Stands before the registry, and ends the database when the first content is on its way.
  let stopping: Promise<void> | undefined;
  const gate = createServer((request, response) => {
    const writes = request.method !== 'GET' && request.method !== 'HEAD';
    stopping ??= writes ? server.stop() : undefined;
    void (stopping ?? Promise.resolve()).then(() => passOn(world.ports.dev, request, response));
  }).listen(0, '127.0.0.1');
  await once(gate, 'listening');
  const { port } = gate.address() as AddressInfo;
  const config = join(world.product.folder, 'gated.yaml');
  await world.writeConfig(config, { dev: `dev.localhost:${port}` });
  await world.configure(/$/, `ledger: ${ledger}\n`, config);
  world.env = { SKERRY_LEDGER: server.url };
  const lost = await world.fails('ledger-unavailable', 'publish', '--config', config);
  expect(lost).toMatchObject({
    what: 'the ledger cannot be used',
    object: expect.stringContaining('localhost'),
    why: expect.stringContaining('the server does not answer'),
    next: expect.stringContaining('run the command again'),
  });
  expect(JSON.stringify(lost)).not.toContain('not-asked-for');
  const tagged = requests.dev.filter(({ method, path }) => method === 'PUT' && /\/manifests\/(?!sha256:)/.test(path));
  expect(tagged).toEqual([]);

  await server.start();
  const published = await world.publish('--config', config);
  expect(published.images.every(({ transfer }) => transfer.blobsSent === 0)).toBe(true);
  expect((await world.status('dev', '--config', config)).environments[0]?.images[0]).toMatchObject({
    version: '2.4.0',
  });
  gate.close();
  await close();
});
