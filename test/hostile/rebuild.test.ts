import { rm } from 'node:fs/promises';
import * as z from 'zod';
import { join } from 'node:path';
import { OtherClient } from '../support/other-client';
import { hodJson } from '../support/hod';
import { components, sandboxWorld, type SandboxWorld } from '../support/world';

const signature = 'application/vnd.skerry.signature.v1';

describe.each([
  ['that lists what refers to a manifest', {}],
  ['that lists nothing', { withoutReferrers: true }],
])('a registry %s', (_, options) => {
  let sandbox: SandboxWorld;
  beforeAll(async () => {
    sandbox = await sandboxWorld(options);
  });
  afterAll(() => sandbox.close());

  test('a ledger that is lost is made again: the same is served, proved, and goes on', async () => {
    const { world } = sandbox;
    const rebuild = (...args: string[]) => hodJson('ledger-rebuild', ['ledger', 'rebuild', ...args], world.options);
    const lose = () => rm(join(world.product.folder, '.hod'), { recursive: true });
    await world.fails('nothing-to-rebuild', 'ledger', 'rebuild');
    await world.publish('--build', '117', '--run-url', 'https://ci.test/runs/117');
    const dev = new OtherClient(world.ports.dev, 'skerry/timetable');
    await dev.attach(await dev.subject('2.4.0'), signature, 'signed');
    await world.promote('uat');
    await world.promote('prod');
    await world.product.change('timetable', 'Show the winter sailings');
    await world.product.build();
    await world.publish('--next', 'minor');
    await world.promote('uat');
    await world.promote('prod');
    expect((await world.hod('rollback', 'prod', '--reason', 'it leaks')).code).toBe(0);

    const served = async () =>
      (await world.status()).environments.map(({ environment, components }) => [
        environment,
        components.map(({ component, repository, version, commit, digest, drift }) => ({
          ...{ component, repository, version, commit, digest },
          drift: drift.state,
        })),
      ]);
    const before = await served();
    await world.fails('ledger-in-use', 'ledger', 'rebuild');
    await lose();
    expect((await world.fails('ledger-empty', 'promote', 'uat')).next).toContain('hod ledger rebuild');
    const rehearsed = await rebuild('--dry-run');
    await world.fails('ledger-empty', 'promote', 'uat');
    const made = await rebuild();
    expect(made).toEqual({ ...rehearsed, dryRun: false });
    expect(made).toMatchObject({ releases: 2, entries: 7 });
    expect(made.notRecovered.map(({ what }) => what)).toEqual([
      ...['evidence', 'actors', 'arrivals', 'withdrawals'],
      'forgeries',
    ]);
    expect(await served()).toEqual(before);
    expect((await world.hod('ledger', 'verify')).code).toBe(0);
    const { environments } = await hodJson('prove', ['prove', '--all', '--deep'], world.options);
    expect(environments.map(({ findings }) => findings)).toEqual([[], [], []]);
    expect(environments[2]?.looked.referrers).toBe(5);

    // What was taken back stays out, versions go on, and what is there is not done again.
    expect((await world.fails('withdrawn', 'promote', 'prod')).why).toContain(
      'found so when the ledger was made again',
    );
    expect((await world.hod('publish')).stdout).toContain('Nothing to do');
    await world.product.change('timetable', 'Show the summer sailings');
    await world.product.build();
    const next = await world.publish('--next', 'minor');
    expect(next.version).toBe('2.6.0');
    expect((await world.promote('uat')).components.map(({ way }) => way)).toEqual(Array(4).fill('takes-over'));
    expect((await world.hod('rollback', 'uat', '--reason', 'it leaks')).stdout).toContain('2.5.0');
    // Nor is a rollback forgotten after which something newer came.
    await world.product.change('timetable', 'Show the autumn sailings');
    await world.product.build();
    await world.publish('--next', 'minor');
    await world.promote('uat');
    const served27 = await served();
    await lose();
    await rebuild();
    expect(await served()).toEqual(served27);
    expect((await world.fails('withdrawn', 'promote', 'uat', '--version', '2.6.0')).object).toContain('2.6.0');
    const said = await world.hod('ledger', 'rebuild', '-c', join(world.product.folder, 'hod.yaml'));
    expect(said.stderr).toContain('this ledger is not made again');
  });
});

test('tags that were cleaned up, and an image that is damaged: what is served is told or asked, and what was withdrawn stays out', async () => {
  const sandbox = await sandboxWorld();
  const { world } = sandbox;
  try {
    const release = async (...args: string[]) => {
      await world.publish(...args);
      await world.promote('uat');
      await world.promote('prod');
      await world.product.change('timetable', `After ${args.join(' ')}`);
      await world.product.build();
    };
    await release();
    await release('--next', 'minor');
    await hodJson('rollback', ['rollback', 'prod', '--reason', 'it leaks'], world.options);
    const remove = async (tag: string) => {
      for (const component of components) {
        const url = `http://127.0.0.1:${world.ports.prod}/v2/skerry/${component}/manifests/${tag}`;
        expect((await fetch(url, { method: 'DELETE' })).status).toBe(202);
      }
    };
    const rebuild = async (...args: string[]) => {
      await rm(join(world.product.folder, '.hod'), { recursive: true, force: true });
      return hodJson('ledger-rebuild', ['ledger', 'rebuild', ...args], world.options);
    };
    const servedIn = (made: Awaited<ReturnType<typeof rebuild>>, name: string) =>
      made.environments.find(({ environment }) => environment === name)?.serves.map(({ version }) => version);
    await remove('2.4');
    expect(servedIn(await rebuild(), 'prod')).toEqual(Array(4).fill('2.4.0'));
    await world.fails('withdrawn', 'promote', 'prod', '--version', '2.5.0');
    // Somebody damages an old image of uat.
    const uat = `http://127.0.0.1:${world.ports.uat}/v2/skerry/timetable/manifests`;
    const index: unknown = await (await fetch(`${uat}/2.4.0`, { headers: { accept: '*/*' } })).json();
    const [child] = z.object({ manifests: z.array(z.object({ digest: z.string() })) }).parse(index).manifests;
    expect((await fetch(`${uat}/${child?.digest}`, { method: 'DELETE' })).status).toBe(202);
    expect((await rebuild()).notRecovered).toContainEqual({
      what: 'damaged',
      detail: expect.stringContaining('skerry/timetable:2.4.0 cannot be read'),
    });
    await remove('2');
    await remove('latest');
    await rm(join(world.product.folder, '.hod'), { recursive: true });
    const unclear = await world.fails('serves-unclear', 'ledger', 'rebuild');
    expect(unclear).toMatchObject({ object: 'prod', next: expect.stringContaining('--serves prod=VERSION') });
    await world.fails('never-published', 'ledger', 'rebuild', '--serves', 'prod=9.9.9');
    expect(servedIn(await rebuild('--serves', 'prod=2.4.0'), 'prod')).toEqual(Array(4).fill('2.4.0'));
    await world.fails('withdrawn', 'promote', 'prod', '--version', '2.5.0');
    expect((await world.hod('restore', 'prod')).code).toBe(0);
    expect((await world.hod('status', '--check')).code).toBe(0);
  } finally {
    await sandbox.close();
  }
});
