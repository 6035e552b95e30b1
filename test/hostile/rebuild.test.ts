import { rm } from 'node:fs/promises';
import { join } from 'node:path';
import { OtherClient } from '../support/other-client';
import { hodJson } from '../support/hod';
import { sandboxWorld, type SandboxWorld } from '../support/world';

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
    expect(made.notRecovered.map(({ what }) => what)).toEqual(['evidence', 'actors', 'arrivals', 'withdrawals']);
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
    const said = await world.hod('ledger', 'rebuild', '-c', join(world.product.folder, 'hod.yaml'));
    expect(said.stderr).toContain('this ledger is not made again');
  });
});
