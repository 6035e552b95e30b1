import { existsSync } from 'node:fs';
import { cp, readFile, writeFile } from 'node:fs/promises';
import { join } from 'node:path';
import { components, sandboxWorld, type SandboxWorld } from '../support/world';
import { livesTheWholeDay } from '../support/whole-day';

let sandbox: SandboxWorld;
beforeEach(async () => (sandbox = await sandboxWorld()));
afterEach(() => sandbox.close());

test('publish, promote, promote: the same bytes everywhere, again is safe, fixed is fixed', async () => {
  await livesTheWholeDay(sandbox.world);
  const everything = Object.values(sandbox.requests).flat();
  expect(everything.filter(({ method }) => method === 'DELETE')).toEqual([]);
});

test('production takes only what UAT has had', async () => {
  const { world } = sandbox;
  expect((await world.fails('ledger-empty', 'promote', 'uat')).object).toBe(
    join(world.product.folder, '.hod', 'ledger.db'),
  );
  await world.publish();
  const early = await world.fails('not-in-previous-environment', 'promote', 'prod', '--version', '2.4.0');
  expect(early.object).toBe('2.4.0 to prod');
  expect(early.gates).toMatchObject([{ gate: 'served-before', outcome: 'unmet' }]);
  expect(early.next).toContain('hod promote uat --version 2.4.0');
  expect((await world.fails('environment-empty', 'promote', 'prod')).next).toContain('hod promote uat');
  await world.fails('never-published', 'promote', 'uat', '--version', '9.9.9');
  await world.fails('first-environment', 'promote', 'dev');
  await world.fails('options-conflict', 'promote', 'uat', '--version', '2.4.0', '--commit', 'HEAD');
  await world.fails('not-a-commit', 'promote', 'uat', '--commit', 'nonsense');
  expect((await world.fails('environment-unknown', 'promote', 'prd')).next).toBe('similar: prod');
  expect(await world.served('prod')).toMatchObject({ timetable: { tags: {} } });
});

test('nothing moves backwards, whatever order builds are published and promoted in', async () => {
  const { world } = sandbox;
  const { product } = world;
  await world.publish();
  const older = product.head();
  const newer = await product.change('timetable', 'Show the winter sailings');
  product.tag('v2.5.0');
  await product.build();
  await world.publish();
  await world.promote('uat');
  await world.promote('prod');

  // The older release is promoted late: its own tag arrives, everything that moves stays.
  await world.promote('uat', '--version', '2.4.0');
  const late = await world.promote('prod', '--commit', older);
  expect(late.components.map(({ way }) => way)).toEqual(components.map(() => 'beside'));
  const outcomes = Object.fromEntries((late.components[0]?.tags ?? []).map(({ tag, outcome }) => [tag, outcome]));
  expect(outcomes).toEqual({ '2.4.0': 'created', '2.4': 'created', '2': 'held', latest: 'held' });
  expect(late.components[0]?.tags.find(({ tag }) => tag === 'latest')?.reason).toBe('points to 2.5.0, which is newer');
  const rows = (await world.status('prod')).environments[0]?.components;
  expect(rows?.map(({ version, drift }) => [version, drift.state])).toEqual(
    Array(components.length).fill(['2.5.0', 'none']),
  );

  // An older pipeline runs again: the branch tag stays with the newer commit.
  await world.publish('--commit', newer, '--branch', 'main');
  const rerun = await world.hod('publish', '--commit', older, '--branch', 'main');
  expect(rerun.code).toBe(3);
  await product.change('timetable', 'Show the summer sailings');
  await product.build();
  const merged = await world.publish('--branch', 'main');
  expect(merged.components[0]?.tags.find(({ tag }) => tag === 'main')).toMatchObject({
    outcome: 'moved',
    reason: 'was 2.5.0',
  });
});

test('a commit that gets its version later keeps its digests; publishing it without one again changes nothing', async () => {
  const { world } = sandbox;
  const commit = await world.product.change('tide-watch', 'Read the new gauge');
  await world.product.build();
  const [before] = (await world.publish()).components;
  world.product.tag('v2.5.0');
  const [after] = (await world.publish()).components;
  expect(after?.digest).toBe(before?.digest);
  expect(after?.tags.map(({ outcome }) => outcome)).toEqual(['unchanged', 'created', 'unchanged']);
  await world.promote('uat');
  expect((await world.status('dev')).environments[0]?.components[0]).toMatchObject({ version: '2.5.0', commit });
  expect(Object.keys((await world.served('uat'))['timetable']?.tags ?? {})).toEqual(['2.5.0', 'uat']);
});

test('parallel publishers of one product end where one after the other would', async () => {
  const { world } = sandbox;
  const builds: { commit: string; version: string; config: string }[] = [];
  for (const minor of [5, 6, 7, 8]) {
    const commit = await world.product.change('timetable', `Season ${minor}`);
    await world.product.build();
    const out = `out-${minor}`;
    await cp(join(world.product.folder, 'out'), join(world.product.folder, out), { recursive: true });
    const config = join(world.product.folder, `hod-${minor}.yaml`);
    await world.writeConfig(config, {});
    await writeFile(config, (await readFile(config, 'utf8')).replaceAll('out/', `${out}/`));
    builds.push({ commit, version: `2.${minor}.0`, config });
  }
  const runs = [...builds, ...builds.toReversed()].map(({ commit, version, config }) =>
    world.publish('--config', config, '--commit', commit, '--version', version, '--branch', 'main'),
  );
  const published = await Promise.all(runs);
  const tags = (await world.served('dev'))['timetable']?.tags;
  const digestOf = (version: string) => published.find((each) => each.version === version)?.components[0]?.digest;
  expect(tags?.['main']).toBe(digestOf('2.8.0'));
  for (const { version } of builds) {
    expect(tags?.[version]).toBe(digestOf(version));
  }
  const [dev] = (await world.status('dev')).environments;
  expect(dev?.components.map(({ version, drift }) => [version, drift.state])).toEqual(
    Array(components.length).fill(['2.8.0', 'none']),
  );
});

test('--dry-run reads and checks everything, writes nothing, and says what would be done', async () => {
  const { world, requests } = sandbox;
  const rehearsed = await world.publish('--dry-run');
  expect(rehearsed.dryRun).toBe(true);
  expect(new Set(requests.dev.map(({ method }) => method))).toEqual(new Set(['HEAD']));
  expect(existsSync(join(world.product.folder, '.hod'))).toBe(false);
  const published = await world.publish();
  const tagsOf = ({ components }: typeof published) => components.map(({ tags }) => tags);
  expect(tagsOf(published)).toEqual(tagsOf(rehearsed));
  // A blob that images share is sent for whichever of them comes first.
  const sentBy = ({ components }: typeof published) => [
    components.reduce((sum, { transfer }) => sum + transfer.blobsSent, 0),
    components.reduce((sum, { transfer }) => sum + transfer.bytesSent, 0),
  ];
  expect(sentBy(published)).toEqual(sentBy(rehearsed));
  const before = await world.served('uat');
  await world.promote('uat', '--dry-run');
  expect(await world.served('uat')).toEqual(before);
});

test('what was moved or removed by hand is seen, and put right by publishing again', async () => {
  const { world } = sandbox;
  await world.publish();
  const base = `http://127.0.0.1:${world.ports.dev}/v2/skerry/timetable/manifests`;
  const { digest } = (await world.publish()).components[0] ?? { digest: '' };
  const child = Object.keys((await world.served('dev'))['timetable']?.manifests ?? {}).find((each) => each !== digest);
  const other = await fetch(`${base}/${child ?? ''}`);
  const body = Buffer.from(await other.arrayBuffer());
  const headers = { 'content-type': other.headers.get('content-type') ?? '' };
  expect((await fetch(`${base}/main`, { method: 'PUT', headers, body })).status).toBe(201);
  expect((await fetch(`${base}/2.4.0`, { method: 'DELETE' })).status).toBe(202);

  const drifted = (await world.status('dev')).environments[0]?.components.map(({ drift }) => drift);
  expect(drifted?.map(({ state }) => state)).toEqual(['drifted', 'none', 'none', 'none']);
  expect(drifted?.[0]?.detail).toMatch(/2\.4\.0 is gone.*main points to/);
  const repaired = await world.publish();
  expect(repaired.components[0]?.tags.map(({ tag, outcome }) => [tag, outcome]).slice(1)).toEqual([
    ['2.4.0', 'restored'],
    ['main', 'restored'],
  ]);
  expect((await world.status('dev')).environments[0]?.components[0]?.drift.state).toBe('none');
});

test('environments may share a repository: then only tags move', async () => {
  const { world, requests } = sandbox;
  const shared = `dev.localhost:${world.ports.dev}`;
  await world.configure(`uat.localhost:${world.ports.uat}`, shared);
  await world.configure(`prod.localhost:${world.ports.prod}/skerry/{image}`, `${shared}/production/{image}`);
  await world.publish();
  const count = requests.dev.length;
  const uat = await world.promote('uat');
  expect(uat.components.every(({ transfer }) => transfer.blobsSent + transfer.blobsMounted === 0)).toBe(true);
  expect(requests.dev.slice(count).filter(({ path }) => path.includes('/blobs/uploads'))).toEqual([]);

  // Within one registry, content is mounted: no blob byte passes through Hod.
  const before = requests.dev.length;
  const prod = await world.promote('prod');
  expect(prod.components.every(({ transfer }) => transfer.bytesSent === 0 && transfer.blobsMounted > 0)).toBe(true);
  const since = requests.dev.slice(before);
  expect(since.filter(({ method, path }) => method === 'GET' && path.includes('/blobs/'))).toEqual([]);
});

test('a registry that asks for a login gets it, and nobody else does', async () => {
  const login = { username: 'una', password: 'gulls-and-terns' };
  const guarded = await sandboxWorld({ login });
  const { world } = guarded;
  try {
    await world.fails('login-needed', 'publish');
    await world.useLogin(login);
    world.env = {};
    expect((await world.fails('credential-missing', 'publish')).next).toContain('SKERRY_USER');
    world.env = { SKERRY_USER: 'una', SKERRY_PASSWORD: 'wrong' };
    await world.fails('login-refused', 'publish');
    world.env = { SKERRY_USER: 'una', SKERRY_PASSWORD: login.password };
    await world.publish();
    const { code, stdout, stderr } = await world.hod('promote', 'uat');
    expect(code).toBe(0);
    expect(stdout + stderr).not.toContain(login.password);
  } finally {
    await guarded.close();
  }
});
