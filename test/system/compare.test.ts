import { mkdir } from 'node:fs/promises';
import { join } from 'node:path';
import { layerOf, pack, writeOlderArchive } from '../support/archives';
import { hod, hodJson } from '../support/hod';
import { sandboxWorld, type SandboxWorld } from '../support/world';

let sandbox: SandboxWorld;
const commits: string[] = [];
beforeAll(async () => {
  sandbox = await sandboxWorld();
  const { world } = sandbox;
  await world.publish();
  await world.promote('uat');
  await world.promote('prod');
  commits.push(await world.product.change('timetable', 'Show the <b>winter</b> | sailings'));
  commits.push(await world.product.change('tide-watch', 'Read the gauge'));
  await world.product.build();
  await world.publish('--version', '2.5.0');
  await world.promote('uat');
});
afterAll(() => sandbox.close());

const compare = (from: string, to: string) => hodJson('compare', ['compare', from, to], sandbox.world.options);

test('two environments: the commits between, and image by image what changed', async () => {
  const found = await compare('prod', 'uat');
  expect([found.from, found.to]).toMatchObject([
    { kind: 'environment', version: '2.4.0' },
    { kind: 'environment', version: '2.5.0' },
  ]);
  expect(found.commits?.added.map(({ commit, subject }) => [commit, subject])).toEqual([
    [commits[1], 'Read the gauge'],
    [commits[0], 'Show the <b>winter</b> | sailings'],
  ]);
  expect(found.commits?.left).toEqual([]);
  expect(found.components.map(({ component, state }) => [component, state])).toEqual([
    ['timetable', 'changed'],
    ['boarding-gate', 'changed'],
    ['tide-watch', 'changed'],
    ['fare-tables', 'same'],
  ]);
  const [timetable] = found.components;
  expect(timetable?.platforms.changed.map(({ platform }) => platform)).toEqual(['linux/amd64', 'linux/arm64']);
  const [amd64] = timetable?.platforms.changed ?? [];
  expect(amd64?.layers.shared).toBeGreaterThan(0);
  expect(amd64?.layers.added.length).toBe(amd64?.layers.removed.length);
  const back = await compare('2.5.0', '2.4.0');
  expect([back.commits?.added.length, back.commits?.left.length]).toEqual([0, 2]);
  expect((await compare('HEAD', '2.5.0')).components.every(({ state }) => state === 'same')).toBe(true);
  const said = await sandbox.world.hod('compare', 'prod', 'uat');
  expect(said.stdout).toContain('2 commits in it now');
  expect(said.stdout).toContain('the same: fare-tables');
  const notes = await sandbox.world.hod('compare', 'prod', 'uat', '--markdown');
  expect(notes.stdout).toContain('## prod (2.4.0) → uat (2.5.0)');
  expect(notes.stdout).toMatch(/- Show the &#60;b&#62;winter&#60;\/b&#62; &#124; sailings/);
  expect(notes.stdout).not.toContain('<b>');
});

test('two images, wherever they are: platforms, layers, and what they say of themselves', async () => {
  const { world } = sandbox;
  const archive = async (name: string, config: object, ...layers: string[]): Promise<string> => {
    const folder = join(world.product.folder, name);
    await mkdir(folder);
    const all = await Promise.all(layers.map((text) => layerOf('file', text)));
    await writeOlderArchive(folder, [{ config: { architecture: 'amd64', os: 'linux', config }, layers: all }]);
    await pack(folder, `${folder}.tar`);
    return `${name}.tar`;
  };
  const one = await archive(
    'one',
    { Env: ['PIER=north', 'API_TOKEN=tern'], User: 'root', Labels: { team: 'boats' }, Cmd: ['serve'] },
    'base',
    'old',
  );
  const other = await archive(
    'other',
    { Env: ['PIER=south', 'API_TOKEN=gull'], User: '1000', Entrypoint: ['/init'], Cmd: ['serve'] },
    'base',
    'new',
  );
  const found = await compare(one, other);
  const [changed] = found.components[0]?.platforms.changed ?? [];
  expect(changed?.layers).toMatchObject({ shared: 1, added: [{}], removed: [{}] });
  expect(changed?.says).toEqual([
    { what: 'label', name: 'team', from: 'boats', to: null },
    { what: 'environment', name: 'PIER', from: 'north', to: 'south' },
    { what: 'environment', name: 'API_TOKEN', from: '…', to: '…' },
    { what: 'user', name: '', from: 'root', to: '1000' },
    { what: 'entrypoint', name: '', from: null, to: '/init' },
  ]);
  expect(found.commits).toBeNull();
  const inRegistry = await compare(world.repository('dev', 'timetable') + ':2.4.0', 'out/timetable-amd64');
  expect(inRegistry.components[0]?.platforms.removed).toEqual(['linux/arm64']);
  expect((await hod(['compare', one, one], world.options)).stdout).toContain('the same: both');
  await world.fails('options-conflict', 'compare', 'prod', one);
  await world.fails('never-published', 'compare', 'prod', '9.9.9');
});

test('--inside tells the paths that differ, of every platform that changed', async () => {
  const { world } = sandbox;
  const { components } = await hodJson('compare', ['compare', 'prod', 'uat', '--inside'], world.options);
  const gate = components.find(({ component }) => component === 'boarding-gate')?.platforms.changed ?? [];
  expect(gate.map(({ platform }) => platform)).toEqual(['linux/amd64', 'linux/arm64', 'linux/arm/v7']);
  for (const { inside } of gate) {
    expect(inside?.added).toEqual([]);
    expect(inside?.changed.map(({ path, what }) => [path, what])).toContainEqual([expect.any(String), ['content']]);
  }
  // Of a bundle, its files.
  await world.product.edit('data/fares/night.csv', 'zone,fare\n');
  await world.product.build();
  await world.publish('--version', '2.6.0');
  const fares = (await hodJson('compare', ['compare', 'uat', 'dev', '--inside'], world.options)).components.find(
    ({ component }) => component === 'fare-tables',
  );
  expect(fares?.files?.added.map(({ path }) => path)).toEqual(['night.csv']);
  expect([fares?.files?.changed, fares?.files?.removed, fares?.platforms.changed]).toEqual([[], [], []]);
  expect((await compare('prod', 'uat')).components[0]?.platforms.changed[0]?.inside).toBeNull();
  expect((await world.hod('compare', 'prod', 'uat', '--inside')).stdout).toMatch(
    /^ {4}0 paths added, 0 removed, \d changed\n {6}changed .* content$/m,
  );
});

test('a release of one component: what it has, and what it says nothing of; environments of several commits tell the commits of each', async () => {
  const { world } = sandbox;
  await world.configure(/^( {2}timetable:)$/m, '$1\n    publish-alone: true');
  commits.push(await world.product.change('timetable', 'Show the ferry at noon'));
  await world.product.build();
  await world.publish('timetable', '--version', '2.7.0');
  const partial = await compare('2.5.0', '2.7.0');
  expect(partial.components.map(({ component, state }) => [component, state])).toEqual([
    ['timetable', 'changed'],
    ...['boarding-gate', 'tide-watch', 'fare-tables'].map((component) => [component, 'left-out']),
  ]);
  expect((await compare('2.7.0', '2.5.0')).components.map(({ state }) => state)).toEqual([
    'changed',
    ...Array(3).fill('left-out'),
  ]);
  const notes = await world.hod('compare', '2.5.0', '2.7.0', '--markdown');
  expect(notes.stdout).toContain('not part of 2.7.0: boarding-gate, tide-watch, fare-tables');
  expect(notes.stdout).not.toContain('removed');
  // The reference is one that can be pasted.
  const [, pasted = ''] = /^\| timetable .*`([^`]+)` \|$/m.exec(notes.stdout) ?? [];
  expect((await hodJson('show', ['show', pasted], world.options)).digest).toBe(partial.components[0]?.to?.digest);
  // dev serves one component of a later commit than the others.
  const environments = await compare('prod', 'dev');
  expect(environments.gap).toBeNull();
  expect(environments.commits?.added.map(({ subject, components }) => [subject, components])).toEqual([
    ['Show the ferry at noon', ['timetable']],
    ['Edit data/fares/night.csv', ['timetable', 'boarding-gate', 'tide-watch', 'fare-tables']],
    ['Read the gauge', ['timetable', 'boarding-gate', 'tide-watch', 'fare-tables']],
    ['Show the <b>winter</b> | sailings', ['timetable', 'boarding-gate', 'tide-watch', 'fare-tables']],
  ]);
  expect((await world.hod('compare', 'prod', 'dev')).stdout).toMatch(/Show the ferry at noon.*in timetable/);
});
