import { execFileSync } from 'node:child_process';
import { mkdir, mkdtemp, readdir, readFile, rm, truncate, writeFile } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join, resolve } from 'node:path';
import { gzipSync } from 'node:zlib';
import type { ErrorCode } from '../../src/core/errors';
import { layerOf, pack, writeOlderArchive, writePlainLayout } from '../support/archives';
import { hod, hodFails, hodJson, type HodOptions } from '../support/hod';

let folder: string;
beforeEach(async () => (folder = await mkdtemp(join(tmpdir(), 'hod-archives-'))));
afterEach(() => rm(folder, { recursive: true }));

const options = (): HodOptions => ({
  cwd: folder,
  env: { XDG_CONFIG_HOME: folder, TMPDIR: join(folder, 'temporary') },
});
const inside = (...names: string[]) => join(folder, 'image', ...names);

/** An archive with one image of one layer, which stands in `layer`. */
async function write(habits: Parameters<typeof writeOlderArchive>[2] = {}): Promise<void> {
  await mkdir(inside(), { recursive: true });
  await mkdir(join(folder, 'temporary'), { recursive: true });
  const config = { architecture: 'amd64', os: 'linux' };
  const image = { config, layers: [await layerOf('app', 'a timetable')] };
  await writeOlderArchive(inside(), [image], { config: () => 'config', layer: () => 'layer', ...habits });
}

async function change(name: string, edit: (text: string) => string): Promise<void> {
  await writeFile(inside(name), edit(await readFile(inside(name), 'utf8')));
}

const cases: [string, ErrorCode, RegExp, () => Promise<void>][] = [
  [
    'a layer that is another',
    'content-corrupt',
    /the config names sha256:/,
    () => writeFile(inside('layer'), Buffer.alloc(1024)),
  ],
  [
    'a compressed layer that is another',
    'content-corrupt',
    /the config names sha256:/,
    () => writeFile(inside('layer'), gzipSync('another')),
  ],
  [
    'a compressed layer that was cut',
    'archive-corrupt',
    /unexpected end of file/,
    async () => writeFile(inside('layer'), gzipSync(await readFile(inside('layer'))).subarray(0, 60)),
  ],
  [
    'a layer in a form that is not unpacked',
    'output-unrecognised',
    /zstd/,
    () => writeFile(inside('layer'), Buffer.from('28b52ffd00', 'hex')),
  ],
  ['no layer', 'layout-corrupt', /names the layer layer, which is not there/, () => rm(inside('layer'))],
  ['no config', 'layout-corrupt', /names config, which is not there/, () => rm(inside('config'))],
  [
    'more layers than the config says',
    'layout-corrupt',
    /names 2 layers .* says it has 1/,
    () => change('manifest.json', (text) => text.replace('["layer"]', '["layer","layer"]')),
  ],
  [
    'a layer outside',
    'layout-corrupt',
    /leads outside/,
    () => change('manifest.json', (text) => text.replace('["layer"]', '["../../etc/hostname"]')),
  ],
  [
    'a manifest.json of another form',
    'layout-corrupt',
    /Config/,
    () => writeFile(inside('manifest.json'), '[{"Layers":[]}]'),
  ],
  ['no image', 'output-ambiguous', /holds no image/, () => writeFile(inside('manifest.json'), '[]')],
];
test.each(cases)('an archive with %s', async (_, code, why, spoil) => {
  await write();
  await spoil();
  expect((await hodFails(code, ['show', 'image'], options())).why).toMatch(why);
  await pack(inside(), join(folder, 'image.tar.gz'));
  expect((await hodFails(code, ['show', 'image.tar.gz'], options())).why).toMatch(why);
  // Nothing of what was unpacked stays.
  expect(await readdir(join(folder, 'temporary'))).toEqual([]);
});

test('a config that is not what it is called', async () => {
  await write({ config: (hex) => `${hex}.json` });
  const [name = ''] = (await readdir(inside())).filter((each) => each.endsWith('.json') && each.length > 60);
  await change(name, (text) => text.replace('amd64', 'arm64'));
  expect((await hodFails('layout-corrupt', ['show', 'image'], options())).why).toMatch(/^its bytes have the digest/);
});

test('a compressed archive that was cut, that holds no archive, or that cannot be kept', async () => {
  await write();
  await pack(inside(), join(folder, 'image.tgz'));
  const env = { ...options().env, TMPDIR: join(folder, 'nowhere') };
  const full = await hodFails('system-refused', ['show', 'image.tgz'], { cwd: folder, env });
  expect(full.next).toContain('TMPDIR');
  await truncate(join(folder, 'image.tgz'), 100);
  await hodFails('archive-corrupt', ['show', 'image.tgz'], options());
  await writeFile(join(folder, 'image.tgz'), gzipSync('not an archive'));
  expect((await hodFails('output-unrecognised', ['show', 'image.tgz'], options())).why).toContain('holds is no .tar');
});

test.each([
  ['a rootfs', () => writeFile(inside('layer'), ''), /holds begins with layer$/],
  ['a .zip', () => writeFile(join(folder, 'file'), 'PK\x03\x04'), /it is a \.zip/],
  ['nothing', () => writeFile(join(folder, 'file'), ''), /it is empty/],
  ['notes', () => writeFile(join(folder, 'file'), 'Sailings\x1b[2J'), /it begins with "Sailings/],
])('%s is there, and no build output', async (_, make, why) => {
  await mkdir(inside());
  await make();
  const path = (await readdir(folder)).includes('file') ? 'file' : 'image';
  const error = await hodFails('output-unrecognised', ['show', path], options());
  expect(error.why).toMatch(why);
  expect(error.next).toContain('manifest.json');
});

test('a layer that was compressed is known the next time', async () => {
  await write();
  const [first, second] = [await hod(['show', 'image'], options()), await hod(['show', 'image'], options())];
  expect(first.stderr).toBe('compressing layer 1 of 1 of image\n');
  expect({ ...second, stderr: first.stderr }).toEqual(first);
  expect(second.stderr).toBe('');
});

const rawZstdProgram = resolve(__dirname, '../support/raw-zstd.cjs');

function rawZstd(bytes: Buffer): Buffer {
  return execFileSync(process.execPath, [rawZstdProgram], { input: bytes, maxBuffer: 1e8 });
}

test('an archive from a pipe has the digests of the same archive as a file: both kinds, compressed or not, its index first or last', async () => {
  const config = { architecture: 'amd64', os: 'linux' };
  const image = { config, layers: [await layerOf('app', 'a timetable'), await layerOf('fares', 'x'.repeat(300_000))] };
  await mkdir(join(folder, 'temporary'));
  const packings: Record<string, (bytes: Buffer) => Buffer> = {
    plain: (bytes: Buffer) => bytes,
    gzip: gzipSync,
    zstd: rawZstd,
  };
  for (const kind of ['layout', 'older'] as const) {
    await mkdir(inside(), { recursive: true });
    await (kind === 'layout' ? writePlainLayout(inside(), image) : writeOlderArchive(inside(), [image]));
    const about = kind === 'layout' ? ['index.json', 'oci-layout'] : ['manifest.json'];
    const content = (await readdir(inside())).filter((name) => !about.includes(name));
    const digests = new Set<string>();
    for (const names of [
      [...about, ...content],
      [...content, ...about],
    ]) {
      const tar = Buffer.from(execFileSync('tar', ['-cf', '-', '-C', inside(), ...names], { maxBuffer: 1e8 }));
      await writeFile(join(folder, 'all.tar'), tar);
      digests.add((await hodJson('show', ['show', 'all.tar'], options())).digest);
      for (const pack of Object.values(packings)) {
        const piped = await hodJson('show', ['show', '-'], { ...options(), input: pack(tar) });
        digests.add(piped.digest);
      }
    }
    expect([kind, digests.size]).toEqual([kind, 1]);
    await rm(inside(), { recursive: true });
  }
  expect(await readdir(join(folder, 'temporary'))).toEqual([]);
  expect((await hodFails('output-unrecognised', ['show', '-'], options())).why).toContain('it is empty');
});
