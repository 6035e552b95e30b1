import { createServer } from 'node:http';
import { once } from 'node:events';
import type { AddressInfo } from 'node:net';
import { join } from 'node:path';
import { startSandboxRegistry } from '../../src/sandbox/registry/router';
import { median, publishesAsAFleet, type FleetReport } from '../support/fleet';
import { git, GitRemoteRepository } from '../support/git-remote';
import { hod, hodJson } from '../support/hod';
import { passOn } from '../support/pass-on';
import { chance } from '../support/random';
import { RealPostgres } from '../support/real-postgres';
import { SmallProduct } from '../support/small-product';
import { sandboxWorld } from '../support/world';

let server: RealPostgres;
beforeAll(async () => (server = await RealPostgres.create()));
afterAll(() => server.close());
const closing: (() => Promise<unknown>)[] = [];
afterEach(() => Promise.all(closing.splice(0).map((close) => close())));

const size = { builds: Number(process.env['HOD_FLEET_BUILDS'] ?? 200), processes: 24 };
const ledger = '{ postgres: { env: SKERRY_LEDGER } }';

function tell(engine: string, { appends, repeated, killed, versions }: FleetReport): void {
  const text = `${appends.length} appends, median ${median(appends).toFixed(1)} ms, longest ${Math.max(...appends).toFixed(0)} ms`;
  process.stderr.write(`${engine}: ${text}; ${repeated} decided again, ${killed} killed, ${versions} versions\n`);
}

test(`24 processes publish ${size.builds} builds with a ledger in PostgreSQL`, async () => {
  const report = await publishesAsAFleet(ledger, { SKERRY_LEDGER: server.url }, size);
  tell('PostgreSQL', report);
  expect(report.killed).toBeGreaterThan(size.builds / 20);
  expect(report.versions).toBeGreaterThan(5);
}, 600_000);

test(`24 processes publish ${size.builds} builds with a ledger in one SQLite file`, async () => {
  const report = await publishesAsAFleet('{ file: ledger/ledger.db }', {}, size);
  tell('SQLite', report);
  expect(report.killed).toBeGreaterThan(size.builds / 20);
  expect(report.versions).toBeGreaterThan(5);
}, 600_000);

test(`24 processes publish ${size.builds} builds with a ledger in one bare git repository`, async () => {
  const remote = new GitRemoteRepository({ partial: false });
  closing.push(() => remote.remove());
  const report = await publishesAsAFleet(`{ git: { remote: "file://${remote.path}" } }`, {}, size);
  tell('git', report);
  expect(report.killed).toBeGreaterThan(size.builds / 20);
  expect(report.versions).toBeGreaterThan(5);
  expect(git(remote.path, ['fsck', '--no-dangling'])).toBe('');
}, 900_000);

test('16 promotions and rollbacks of one product at once: one after the other, and tags are as the last entry says', async () => {
  const [dev, uat] = [await startSandboxRegistry({ port: 0 }), await startSandboxRegistry({ port: 0 })];
  const product = await SmallProduct.create({ dev: dev.port, uat: uat.port }, ledger, { SKERRY_LEDGER: server.url });
  closing.push(dev.close, uat.close, () => product.remove());
  const { options } = product;
  for (let minor = 0; minor < 10; minor += 1) {
    await product.publish(minor);
  }
  await hodJson('promote', ['promote', 'uat', '--version', '1.0.0'], options);
  const lines = [
    ...Array.from({ length: 10 }, (_, minor) => ['promote', 'uat', '--version', `1.${minor}.0`]),
    ...Array.from({ length: 6 }, (_, at) => ['rollback', 'uat', '--reason', `reason ${at}`]),
  ];
  const random = chance();
  const shuffled = lines.map((line) => ({ line, key: random() })).sort((a, b) => a.key - b.key);
  const runs = await Promise.all(shuffled.map(({ line }) => hod(line, options)));
  // Done, or refused by a rule: nothing else.
  expect(runs.filter(({ code }) => code !== 0 && code !== 3).map(({ stderr }) => stderr)).toEqual([]);

  // What the entries say one after the other: forward by promotion, back by rollback to what was served before.
  const stack: string[] = [];
  const withdrawn = new Set<string>();
  const actions = (await product.entries()).filter(
    ({ kind, environment }) => environment === 'uat' && kind !== 'published',
  );
  for (const { kind, version = '', arrivals = [], served = [] } of actions) {
    if (kind === 'promoted' && arrivals.every(({ way }) => way === 'beside')) {
      // It is the newest of its own line, and moves nothing.
      expect(Number(version.split('.')[1])).toBeLessThan(Number(stack.at(-1)?.split('.')[1]));
    } else if (kind === 'promoted') {
      expect(arrivals.map(({ way }) => way)).toEqual(product.components.map(() => 'takes-over'));
      expect(Number(version.split('.')[1])).toBeGreaterThan(Number(stack.at(-1)?.split('.')[1] ?? -1));
      expect(withdrawn.has(version)).toBe(false);
      stack.push(version);
    } else {
      withdrawn.add(stack.pop() ?? '');
      expect([...new Set(served.map(({ is }) => is?.version))]).toEqual([stack.at(-1)]);
    }
  }
  for (const tags of Object.values(await product.tags())) {
    const target = tags[stack.at(-1) ?? ''];
    expect([tags['uat'], tags['latest'], tags['1']]).toEqual([target, target, target]);
  }
  expect((await hod(['status', '--check'], options)).code).toBe(0);
  await hodJson('ledger-verify', ['ledger', 'verify'], options);
  process.stderr.write(`${actions.length} of 17 were done, the others were refused\n`);
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
  // The other tests have releases of the same product in this database.
  await world.configure('product: skerry-line', 'product: skerry-lost', config);
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
  expect(published.components.every(({ transfer }) => transfer.blobsSent === 0)).toBe(true);
  expect((await world.status('dev', '--config', config)).environments[0]?.components[0]).toMatchObject({
    version: '2.4.0',
  });
  gate.close();
  await close();
});
