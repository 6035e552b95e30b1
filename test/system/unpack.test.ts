import { execFileSync } from 'node:child_process';
import { createHash } from 'node:crypto';
import { chmod, mkdir, readdir, readFile, rm, stat, writeFile } from 'node:fs/promises';
import { join } from 'node:path';
import { gzipSync } from 'node:zlib';
import { Header } from 'tar';
import { hod, hodFails, hodJson } from '../support/hod';
import { sandboxWorld, type SandboxWorld } from '../support/world';

let sandbox: SandboxWorld;
let folder: string;
beforeAll(async () => {
  sandbox = await sandboxWorld();
  folder = sandbox.world.product.folder;
  await mkdir(join(folder, 'data', 'fares', 'winter'), { recursive: true });
  await writeFile(join(folder, 'data', 'fares', 'winter', 'count.sh'), '#!/bin/sh\n');
  await chmod(join(folder, 'data', 'fares', 'winter', 'count.sh'), 0o755);
  await sandbox.world.publish();
});
afterAll(() => sandbox.close());

const at = (...names: string[]): string => join(folder, ...names);
const unpack = (...args: string[]) => hodJson('unpack', ['unpack', ...args], sandbox.world.options);
/** Every file below a folder, with its content and whether it may be run. */
async function filesIn(root: string): Promise<Record<string, string>> {
  const entries = await readdir(root, { recursive: true, withFileTypes: true });
  const files = entries.filter((entry) => entry.isFile()).map((entry) => join(entry.parentPath, entry.name));
  const read = files.map(async (path): Promise<[string, string]> => {
    const { mode } = await stat(path);
    return [path.slice(root.length + 1), `${(mode & 0o100) === 0 ? '-' : 'x'} ${await readFile(path, 'utf8')}`];
  });
  return Object.fromEntries(await Promise.all(read));
}

test('the files of a bundle come out as they went in: of a release, a reference, a parcel; again is safe', async () => {
  const files = await filesIn(at('data', 'fares'));
  expect(files['winter/count.sh']).toMatch(/^x /);
  const dry = await unpack('dev', 'new/deploy', '--dry-run');
  expect(await readdir(folder)).not.toContain('new');
  const written = await unpack('dev', 'new/deploy');
  expect({ ...written, dryRun: true }).toEqual(dry);
  expect(written).toMatchObject({
    outcome: 'written',
    contents: [{ component: 'fare-tables', kind: 'bundle', files: Object.keys(files).length }],
  });
  expect(await filesIn(at('new', 'deploy', 'fare-tables'))).toEqual(files);
  expect((await unpack('2.4.0', 'new/deploy')).outcome).toBe('unchanged');
  await sandbox.world.hod('pack', 'dev', '--out', 'skerry.tar');
  for (const what of [sandbox.world.repository('dev', 'fare-tables:2.4.0'), 'skerry.tar#fare-tables']) {
    await rm(at('fares'), { recursive: true, force: true });
    expect(await unpack(what, 'fares')).toMatchObject({ contents: [{ component: null, kind: 'bundle' }] });
    expect(await filesIn(at('fares'))).toEqual(files);
    const looked = await hodJson('inside', ['inside', what], sandbox.world.options);
    expect(looked).toMatchObject({ platform: null, files: Object.keys(files).length });
  }
  // Somebody's own files are never touched.
  await writeFile(at('fares', 'own.txt'), 'mine');
  expect((await sandbox.world.fails('folder-in-use', 'unpack', 'dev', 'fares')).why).toMatch(/own\.txt|winter/);
  expect(await filesIn(at('fares'))).toEqual({ ...files, 'own.txt': '- mine' });
  await rm(at('fares', 'own.txt'));
  await chmod(at('fares', 'winter', 'count.sh'), 0o644);
  await sandbox.world.fails('folder-in-use', 'unpack', 'skerry.tar#fare-tables', 'fares');
  await sandbox.world.fails('folder-in-use', 'unpack', 'dev', 'hod.yaml');
  await sandbox.world.fails('not-files', 'unpack', sandbox.world.repository('dev', 'timetable:2.4.0'), 'image');
  expect(await readdir(folder)).not.toContain('image');
  const nowhere = { cwd: join(sandbox.world.folder, '..') };
  for (const line of [
    ['unpack', 'prod', 'x'],
    ['pack', '2.4.0', '--out', 'x'],
  ]) {
    expect((await hodFails('config-missing', line, nowhere)).object).toBe(line[1]);
  }
  expect((await readdir(folder)).filter((name) => name.endsWith('.part') || name.endsWith('.lock'))).toEqual([]);
});

const sha256 = (bytes: Buffer): string => createHash('sha256').update(bytes).digest('hex');

/** Writes a layout of one artifact with a layer. */
async function artifact(name: string, layer: Buffer, title?: string): Promise<void> {
  const place = at(name);
  await rm(place, { recursive: true, force: true });
  await mkdir(join(place, 'blobs', 'sha256'), { recursive: true });
  const keep = async (bytes: Buffer, mediaType: string) => {
    await writeFile(join(place, 'blobs', 'sha256', sha256(bytes)), bytes);
    return { mediaType, digest: `sha256:${sha256(bytes)}`, size: bytes.length };
  };
  const mediaType = 'application/vnd.oci.image.manifest.v1+json';
  const annotations = title === undefined ? {} : { 'org.opencontainers.image.title': title };
  const manifest = {
    schemaVersion: 2,
    mediaType,
    artifactType: 'application/vnd.skerry.charts',
    config: await keep(Buffer.from('{}'), 'application/vnd.oci.empty.v1+json'),
    layers: [{ ...(await keep(layer, 'application/vnd.skerry.files')), annotations }],
  };
  const root = await keep(Buffer.from(JSON.stringify(manifest)), mediaType);
  await writeFile(join(place, 'index.json'), JSON.stringify({ schemaVersion: 2, manifests: [root] }));
  await writeFile(join(place, 'oci-layout'), '{"imageLayoutVersion":"1.0.0"}');
}

interface Member {
  path: string;
  type?: 'File' | 'Directory' | 'SymbolicLink' | 'Link' | 'CharacterDevice' | 'FIFO';
  linkpath?: string;
  text?: string;
}

function tarOf(members: readonly Member[]): Buffer {
  const blocks = members.flatMap(({ path, type = 'File', linkpath = '', text = '' }) => {
    const header = Buffer.alloc(512);
    new Header({ path, type, linkpath, size: text.length, mode: 0o644, uid: 0, gid: 0, mtime: new Date(0) }).encode(
      header,
    );
    return [header, Buffer.from(text), Buffer.alloc((512 - (text.length % 512)) % 512)];
  });
  return Buffer.concat([...blocks, Buffer.alloc(1024)]);
}

test('a layer with a title is that file, and one without is an archive of files', async () => {
  await artifact(
    'chart',
    gzipSync(
      tarOf([
        { path: 'piers/', type: 'Directory' },
        { path: './piers/north', text: 'N' },
      ]),
    ),
  );
  expect((await unpack('./chart', 'charts')).contents).toMatchObject([{ kind: 'artifact', files: 1, size: 1 }]);
  expect(await filesIn(at('charts'))).toEqual({ 'piers/north': '- N' });
  await artifact('policy', Buffer.from('allow the gulls'), 'rules/gulls.txt');
  await unpack('./policy', 'policies');
  expect(await filesIn(at('policies'))).toEqual({ 'rules/gulls.txt': '- allow the gulls' });
});

const outside: readonly (readonly [string, readonly Member[]])[] = [
  ['a name that climbs', [{ path: '../escaped', text: 'x' }]],
  ['a name that climbs and comes back', [{ path: 'a/../b', text: 'x' }]],
  ['a name that climbs late', [{ path: 'a/b/../../../escaped', text: 'x' }]],
  ['an absolute name', [{ path: '/escaped', text: 'x' }]],
  ['a folder that climbs', [{ path: '../escaped/', type: 'Directory' }]],
  [
    'a symbolic link',
    [
      { path: 'a', type: 'SymbolicLink', linkpath: '..' },
      { path: 'a/escaped', text: 'x' },
    ],
  ],
  ['a hard link', [{ path: 'a', type: 'Link', linkpath: '/etc/passwd' }]],
  ['a device', [{ path: 'a', type: 'CharacterDevice' }]],
  ['a pipe', [{ path: 'a', type: 'FIFO' }]],
  [
    'a name twice',
    [
      { path: 'a', text: 'x' },
      { path: './a', text: 'y' },
    ],
  ],
  [
    'a file that is a folder',
    [
      { path: 'a', text: 'x' },
      { path: 'a/b', text: 'y' },
    ],
  ],
  [
    'a folder that is a file',
    [
      { path: 'a/b', text: 'x' },
      { path: 'a', text: 'y' },
    ],
  ],
  [
    'a folder in a file',
    [
      { path: 'a', text: 'x' },
      { path: 'a/', type: 'Directory' },
    ],
  ],
];

test.each(outside)('%s is refused, and nothing is written', async (_, members) => {
  await artifact('evil', tarOf([{ path: 'first', text: 'well' }, ...members]));
  const before = await readdir(folder);
  const { next } = await sandbox.world.fails('unsafe-archive', 'unpack', './evil', 'deep/er/out');
  expect(next).toMatch(/nothing was written/);
  expect((await readdir(folder)).filter((name) => name !== 'deep')).toEqual(before.filter((name) => name !== 'deep'));
  expect(await readdir(at('deep', 'er'))).toEqual([]);
});

test('titles that lead elsewhere, damaged layers, and a run that was killed', async () => {
  for (const title of ['../escaped', '/escaped', 'a/../b', '', '.']) {
    await artifact('evil', Buffer.from('x'), title);
    await sandbox.world.fails('unsafe-archive', 'unpack', './evil', 'out-of-title');
  }
  await artifact('evil', gzipSync(tarOf([{ path: 'a', text: 'x'.repeat(5000) }])).subarray(0, 60));
  expect((await hod(['unpack', './evil', 'cut'], sandbox.world.options)).code).toBe(7);
  const layer = tarOf([{ path: 'a', text: 'x'.repeat(5000) }]);
  await artifact('evil', layer);
  const blob = at('evil', 'blobs', 'sha256', sha256(layer));
  await writeFile(blob, Buffer.concat([layer.subarray(0, 4000), Buffer.from('y'), layer.subarray(4001)]));
  await hodFails('content-corrupt', ['unpack', './evil', 'cut'], sandbox.world.options);
  await writeFile(blob, layer);
  // What a run left that was killed.
  await mkdir(at('.cut.part'));
  await writeFile(at('.cut.part', 'half'), 'x');
  expect(await readdir(folder)).not.toContain('cut');
  await unpack('./evil', 'cut');
  expect(Object.keys(await filesIn(at('cut')))).toEqual(['a']);
  expect(execFileSync('ls', ['-A', folder], { encoding: 'utf8' })).not.toMatch(/\.part/);
});
