import { join } from 'node:path';
import { writeSampleLayout } from '../../src/sandbox/sample/sample-image';
import { hodJson } from '../support/hod';
import { readRepository } from '../support/registry-reader';
import { sandboxWorld, type SandboxWorld } from '../support/world';

let sandbox: SandboxWorld;
beforeAll(async () => (sandbox = await sandboxWorld()));
afterAll(() => sandbox.close());

const assemble = (...args: string[]) => hodJson('assemble', ['assemble', ...args], sandbox.world.options);
const amd64 = 'out/timetable-amd64';
const arm64 = 'out/timetable-arm64.tar';

test('the same members give the same index, in whatever order and from wherever they are named', async () => {
  const { world } = sandbox;
  const target = world.repository('dev', 'pair');
  const index = await assemble(`${target}:2.4.0`, amd64, arm64);
  expect(index.members.map(({ platform, revision }) => [platform, revision])).toEqual([
    ['linux/amd64', world.product.head()],
    ['linux/arm64', world.product.head()],
  ]);
  expect(index.tags).toEqual([
    { tag: '2.4.0', kind: 'fixed', outcome: 'created', reason: 'the tag is new', astray: null },
  ]);

  const [first, second] = index.members.map(({ digest }) => `${target}@${digest}`);
  for (const members of [
    [arm64, amd64],
    [second ?? '', amd64],
    [arm64, first ?? '', second ?? ''],
    [`${target}:2.4.0`],
  ]) {
    const again = await assemble(`${target}:2.4.0`, ...members);
    expect(again).toMatchObject({ digest: index.digest, members: index.members, tags: [{ outcome: 'unchanged' }] });
    expect(again.transfer.bytesSent).toBe(0);
  }
  const served = await readRepository(world.ports.dev, 'skerry/pair');
  expect(served.tags).toEqual({ '2.4.0': index.digest });
  expect(Object.keys(served.manifests)).toHaveLength(3);
  const shown = await hodJson('show', ['show', `${target}:2.4.0`], world.options);
  expect(shown).toMatchObject({ digest: index.digest, platforms: [{ platform: 'linux/amd64', layers: 3 }, {}] });
  expect((await world.fails('image-missing', 'show', `${target}:2.4.1`)).next).toContain('2.4.0');
});

test('members for one platform, from two commits, or that are not there are one clear error each', async () => {
  const { world } = sandbox;
  const target = `${world.repository('dev', 'other')}:2.4.0`;
  const revision = '0'.repeat(40);
  const out = (name: string) => join(world.product.folder, 'out', name);
  await writeSampleLayout(out('other-amd64'), [{ platform: 'linux/amd64', revision, layers: [{ 'app/a': 'a' }] }]);
  await writeSampleLayout(out('other-arm'), [{ platform: 'linux/arm/v7', revision, layers: [{ 'app/a': 'a' }] }]);

  const twice = await world.fails('platform-twice', 'assemble', target, amd64, 'out/other-amd64');
  expect(twice.object).toBe('linux/amd64');
  const mixed = await world.fails('mixed-commits', 'assemble', target, amd64, 'out/other-arm');
  expect(mixed.why).toContain(world.product.head());
  expect(mixed.why).toContain(revision);
  expect((await world.fails('image-missing', 'assemble', target, amd64, 'out/riscv')).object).toContain('out/riscv');
  const absent = await world.fails(
    'image-missing',
    'assemble',
    target,
    amd64,
    world.repository('dev', 'nowhere:1.0.0'),
  );
  expect(absent.object).toBe(world.repository('dev', 'nowhere:1.0.0'));
  expect(await readRepository(world.ports.dev, 'skerry/other')).toEqual({ tags: {}, manifests: {}, blobs: [] });

  // A tag that is named is a fixed one.
  const one = await assemble(target, amd64);
  const refused = await world.fails('fixed-tag-taken', 'assemble', target, arm64);
  expect(refused.object).toBe(target);
  expect(refused.why).toContain(one.digest);
});
