import { createHash } from 'node:crypto';
import { cp, mkdir, readdir, readFile, rename, rm, writeFile } from 'node:fs/promises';
import { join } from 'node:path';
import { writeSampleLayout } from '../../src/sandbox/sample/sample-image';
import { layerOf, writeOlderArchive } from '../support/archives';
import { hod, hodJson } from '../support/hod';
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
    { tag: '2.4.0', kind: 'fixed', platform: null, outcome: 'created', reason: 'the tag is new', drift: null },
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

test('one image or index that is named stays as it is, unless a new index is asked for', async () => {
  const { world } = sandbox;
  const published = await world.publish();
  const timetable = published.components.find(({ component }) => component === 'timetable');
  const target = world.repository('dev', 'kept');
  const index = await assemble(`${target}:2.4.0`, world.repository('dev', 'timetable:2.4.0'));
  expect(index).toMatchObject({ digest: timetable?.digest, kept: true, tags: [{ outcome: 'created' }] });
  expect(index.members.map(({ platform }) => platform)).toEqual(['linux/amd64', 'linux/arm64']);
  const single = await assemble(`${target}:amd64`, amd64);
  expect(single).toMatchObject({ kept: true, digest: single.members[0]?.digest });
  const wrapped = await assemble(target, amd64, '--index');
  expect(wrapped).toMatchObject({ kept: false, mediaType: 'application/vnd.oci.image.index.v1+json' });
  const { tags, manifests } = await readRepository(world.ports.dev, 'skerry/kept');
  expect(tags).toEqual({ '2.4.0': index.digest, amd64: single.digest });
  expect(Object.keys(manifests)).toContain(timetable?.digest);
  const said = await hod(['assemble', `${target}:2.4.0`, world.repository('dev', 'timetable:2.4.0')], world.options);
  expect(said.stdout).toMatch(/^Wrote it as it is: 2 images/);
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
  const mixed = await world.fails('mixed-commits', 'assemble', target, amd64, 'out/other-arm', arm64);
  expect(mixed.why?.split('\n')).toEqual([
    expect.stringContaining(`linux/amd64 (out/timetable-amd64`),
    expect.stringContaining(`commit ${revision}`),
    expect.stringContaining(`commit ${world.product.head()}`),
  ]);
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

describe('an index that is there', () => {
  const revision = '1'.repeat(40);
  const out = (name: string) => join(sandbox.world.product.folder, 'out', name);
  const build = async (name: string, platform: string, text = platform): Promise<string> => {
    await writeSampleLayout(out(name), [{ platform, revision, layers: [{ 'app/a': text }] }]);
    return `out/${name}`;
  };

  test('is changed member by member, and what else leads to what it was is named', async () => {
    const { world } = sandbox;
    const target = world.repository('dev', 'changed');
    const members = [
      await build('c-amd64', 'linux/amd64'),
      await build('c-arm64', 'linux/arm64'),
      await build('c-arm', 'linux/arm/v7'),
    ];
    const first = await assemble(`${target}:1.0.0`, ...members);
    await assemble(`${target}:trial`, `${target}:1.0.0`);
    const platforms = (made: { members: { platform: string }[] }) => made.members.map(({ platform }) => platform);

    const dropped = await assemble(`${target}:1.0.1`, `${target}:1.0.0`, '--drop', 'linux/arm/v7');
    expect(platforms(dropped)).toEqual(['linux/amd64', 'linux/arm64']);
    expect(dropped.changed).toMatchObject({ digest: first.digest, tags: ['1.0.0', 'trial'], allTags: true });
    const added = await assemble(target, `${target}:1.0.1`, '--add', members[2] ?? '');
    expect(added.digest).toBe(first.digest);
    const patched = await build('c-arm64-new', 'linux/arm64', 'mended');
    const replaced = await assemble(`${target}:1.0.2`, `${target}:1.0.0`, '--replace', `linux/arm64=${patched}`);
    expect(platforms(replaced)).toEqual(platforms(first));
    const differing = replaced.members.filter(({ digest }, at) => digest !== first.members[at]?.digest);
    expect(platforms({ members: differing })).toEqual(['linux/arm64']);
    const text = await hod(
      ['assemble', `${target}:1.0.2`, `${target}:1.0.0`, '--replace', `linux/arm64=${patched}`],
      world.options,
    );
    expect(text.stdout).toMatch(/Changed from .*:1\.0\.0, sha256:.*\n +1\.0\.0, trial still lead to what it was/);

    const fails = (code: Parameters<typeof world.fails>[0], ...args: string[]) =>
      world.fails(code, 'assemble', `${target}:9`, ...args);
    expect((await fails('platform-missing', `${target}:1.0.0`, '--drop', 'linux/s390x')).why).toContain('linux/arm/v7');
    await fails('platform-twice', `${target}:1.0.0`, '--add', patched);
    await fails('platform-contradicted', `${target}:1.0.0`, '--replace', `linux/arm/v7=${patched}`);
    await fails('not-a-platform', `${target}:1.0.0`, '--replace', patched);
    await fails('options-conflict', `${target}:1.0.0`, patched, '--drop', 'linux/arm64');
    expect(Object.keys((await readRepository(world.ports.dev, 'skerry/changed')).tags)).not.toContain('9');
  });

  test('has what is required, each member for the platform that it was named for', async () => {
    const { world } = sandbox;
    const target = `${world.repository('dev', 'required')}:1`;
    const one = await build('r-amd64', 'linux/amd64');
    const fails = (code: Parameters<typeof world.fails>[0], ...args: string[]) =>
      world.fails(code, 'assemble', target, ...args);
    const missing = await fails('platform-missing', one, '--require', 'linux/amd64', 'linux/arm64');
    expect(missing).toMatchObject({ object: 'linux/arm64', exitCode: 4 });
    const wrong = await fails('platform-contradicted', `linux/arm64=${one}`);
    expect(wrong.why).toBe('it was named for linux/arm64, and its config says linux/amd64');
    expect(await assemble(target, `linux/amd64=${one}`, '--require', 'linux/amd64')).toMatchObject({
      tags: [{ outcome: 'created' }],
    });
  });

  test('is of one version', async () => {
    const { world } = sandbox;
    const version = async (name: string, architecture: string, text: string): Promise<string> => {
      await mkdir(out(name));
      const config = { architecture, os: 'linux', config: { Labels: { 'org.opencontainers.image.version': text } } };
      await writeOlderArchive(out(name), [{ config, layers: [await layerOf('app', name)] }]);
      return `out/${name}`;
    };
    const members = [await version('v-one', 'amd64', '2.4.0'), await version('v-two', 'arm64', '2.4.1')];
    const mixed = await world.fails(
      'mixed-versions',
      'assemble',
      `${world.repository('dev', 'versions')}:1`,
      ...members,
    );
    expect(mixed.why).toMatch(/linux\/amd64 .*: version 2\.4\.0\nlinux\/arm64 .*: version 2\.4\.1/);
  });

  test('is made of what other jobs still build', async () => {
    const { world } = sandbox;
    const target = `${world.repository('dev', 'awaited')}:1`;
    const here = await build('w-amd64', 'linux/amd64');
    const there = `${world.repository('dev', 'awaited')}:arm64`;
    const line = ['assemble', target, here, 'out/w-arm', there, '--wait', '60s'];
    const waiting = hod(line, {
      ...world.options,
      started: ({ stderr }) =>
        stderr?.on('data', (text: Buffer) => {
          if (String(text).includes('waiting for out/w-arm')) {
            void build('w-arm', 'linux/arm/v7');
          }
          if (String(text).includes(`waiting for ${there}`)) {
            void build('w-arm64', 'linux/arm64').then((path) => assemble(there, path));
          }
        }),
    });
    expect(await waiting).toMatchObject({ code: 0 });
    const ended = await world.fails('wait-ended', 'assemble', `${target}2`, here, 'out/never', '--wait', '1s');
    expect(ended.object).toContain('out/never');
  });

  test('keeps what accompanies its images, but for those that leave', async () => {
    const { world } = sandbox;
    const target = world.repository('dev', 'attested');
    const images = ['linux/amd64', 'linux/arm64'].map((platform) => ({
      platform,
      revision,
      layers: [{ 'app/a': platform }],
    }));
    await writeSampleLayout(out('attested'), images);
    const blob = async (text: string) => {
      const hex = createHash('sha256').update(text).digest('hex');
      await writeFile(join(out('attested'), 'blobs', 'sha256', hex), text);
      return { digest: `sha256:${hex}`, size: Buffer.byteLength(text) };
    };
    const read = async (digest: string) =>
      JSON.parse(await readFile(join(out('attested'), 'blobs', 'sha256', digest.slice(7)), 'utf8')) as {
        manifests: { digest: string }[];
      };
    const layout = JSON.parse(await readFile(join(out('attested'), 'index.json'), 'utf8')) as {
      manifests: { digest: string; size: number }[];
    };
    const index = await read(layout.manifests[0]?.digest ?? '');
    const type = 'application/vnd.oci.image.manifest.v1+json';
    const statement = { mediaType: 'application/vnd.in-toto+json', ...(await blob('{"statement":1}')) };
    for (const { digest } of [...index.manifests]) {
      const config = { mediaType: 'application/vnd.oci.empty.v1+json', ...(await blob('{}')) };
      const about = JSON.stringify({
        schemaVersion: 2,
        mediaType: type,
        config,
        layers: [statement],
        annotations: { about: digest },
      });
      index.manifests.push({
        mediaType: type,
        ...(await blob(about)),
        platform: { os: 'unknown', architecture: 'unknown' },
        annotations: { subject: digest },
      } as { digest: string });
    }
    Object.assign(layout.manifests[0] ?? {}, await blob(JSON.stringify(index)));
    await writeFile(join(out('attested'), 'index.json'), JSON.stringify(layout));

    const whole = await assemble(`${target}:1`, 'out/attested');
    expect([whole.members.length, whole.companions]).toEqual([2, 2]);
    const less = await assemble(`${target}:2`, `${target}:1`, '--drop', 'linux/arm64');
    expect([less.members.length, less.companions]).toEqual([1, 1]);
    await readRepository(world.ports.dev, 'skerry/attested');
  });
});

test('of members of the older media types a list of the older type is made, and forty members are one index', async () => {
  const { world } = sandbox;
  const target = world.repository('dev', 'many');
  const out = (name: string) => join(world.product.folder, 'out', name);
  const revision = '2'.repeat(40);
  const names = Array.from({ length: 40 }, (_, at) => `many-${at}`);
  for (const [at, name] of names.entries()) {
    await writeSampleLayout(out(name), [{ platform: `linux/arm/v${at}`, revision, layers: [{ 'app/a': name }] }]);
  }
  const made = await assemble(`${target}:40`, ...names.map((name) => `out/${name}`));
  expect(made.members).toHaveLength(40);
  expect(made.mediaType).toBe('application/vnd.oci.image.index.v1+json');

  const older = async (name: string): Promise<string> => {
    await cp(out(name), out(`older-${name}`), { recursive: true });
    const blobs = out(join(`older-${name}`, 'blobs', 'sha256'));
    const index = JSON.parse(await readFile(out(join(`older-${name}`, 'index.json')), 'utf8')) as {
      manifests: { digest: string }[];
    };
    const old = index.manifests[0]?.digest.slice(7) ?? '';
    const text = (await readFile(join(blobs, old), 'utf8')).replaceAll(
      'application/vnd.oci.image.manifest.v1+json',
      'application/vnd.docker.distribution.manifest.v2+json',
    );
    const hex = createHash('sha256').update(text).digest('hex');
    await writeFile(join(blobs, hex), text);
    const mediaType = 'application/vnd.docker.distribution.manifest.v2+json';
    const manifests = [{ mediaType, digest: `sha256:${hex}`, size: Buffer.byteLength(text) }];
    await writeFile(out(join(`older-${name}`, 'index.json')), JSON.stringify({ schemaVersion: 2, manifests }));
    return `out/older-${name}`;
  };
  const list = await assemble(`${target}:older`, await older('many-1'), await older('many-2'));
  expect(list.mediaType).toBe('application/vnd.docker.distribution.manifest.list.v2+json');
  const mixed = await assemble(`${target}:mixed`, 'out/older-many-1', 'out/many-2');
  expect(mixed.mediaType).toBe('application/vnd.oci.image.index.v1+json');
  await readRepository(world.ports.dev, 'skerry/many');
});

test('members that are there cost what the protocol asks for, and a member that vanishes leaves nothing behind', async () => {
  const { world } = sandbox;
  const target = world.repository('dev', 'there');
  const members = [`${target}:amd64`, `${target}:arm64`];
  await assemble(members[0] ?? '', amd64);
  await assemble(members[1] ?? '', arm64);
  const before = sandbox.requests.dev.length;
  const made = await assemble(`${target}:1`, ...members);
  const asked = sandbox.requests.dev
    .slice(before)
    .map(({ method, path }) => `${method} ${path.split('/').at(-2) ?? ''}`);
  const count = (text: string) => asked.filter((each) => each === text).length;
  // Each image that stands under a tag and its config are read, each layer is asked for once, the new index is written once.
  expect(count('GET manifests')).toBe(2);
  expect(count('PUT manifests')).toBe(1);
  expect(count('HEAD manifests')).toBe(2);
  expect(made.transfer).toMatchObject({ blobsSent: 0, blobsMounted: 0, bytesSent: 0 });
  expect(asked.length).toBe(made.transfer.requests);

  await mkdir(join(world.folder, 'aside'), { recursive: true });
  const vanishing = 'out/vanishing';
  await writeSampleLayout(join(world.product.folder, vanishing), [
    { platform: 'linux/amd64', revision: '3'.repeat(40), layers: [{ 'app/a': 'here' }] },
  ]);
  const blobs = join(world.product.folder, vanishing, 'blobs', 'sha256');
  for (const name of await readdir(blobs)) {
    if ((await readFile(join(blobs, name))).subarray(0, 2).toString('hex') === '1f8b') {
      await rename(join(blobs, name), join(world.folder, 'aside', name));
    }
  }
  const gone = await world.fails('blob-missing', 'assemble', `${target}:2`, vanishing);
  expect(gone.next).toContain('nothing was tagged');
  await rm(join(world.product.folder, vanishing), { recursive: true });
  expect(Object.keys((await readRepository(world.ports.dev, 'skerry/there')).tags)).toEqual(['1', 'amd64', 'arm64']);
});
