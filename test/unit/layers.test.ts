import { execFileSync } from 'node:child_process';
import fc from 'fast-check';
import {
  chmodSync,
  existsSync,
  linkSync,
  lstatSync,
  mkdirSync,
  mkdtempSync,
  readdirSync,
  readFileSync,
  readlinkSync,
  rmSync,
  symlinkSync,
  writeFileSync,
} from 'node:fs';
import { tmpdir } from 'node:os';
import { dirname, join } from 'node:path';
import { gzipSync } from 'node:zlib';
import { readLayer, type ReadMember } from '../../src/archive/layer-entries';
import { unpacked } from '../../src/archive/unpack';
import { LayerTree } from '../../src/core/oci/layer-tree';
import { tarHeader } from '../support/archives';
import { failing } from '../support/seen-errors';

let folder: string;
beforeEach(() => (folder = mkdtempSync(join(tmpdir(), 'hod-layers-'))));
afterEach(() => rmSync(folder, { recursive: true, force: true }));

type Change =
  | { kind: 'file'; path: string; size: number; mode: number }
  | { kind: 'folder'; path: string; mode: number }
  | { kind: 'symlink'; path: string }
  | { kind: 'hardlink'; path: string; to: number }
  | { kind: 'whiteout'; path: string }
  | { kind: 'opaque'; path: string };

const path = fc
  .array(fc.constantFrom('a', 'b', 'c', 'näh'), { minLength: 1, maxLength: 3 })
  .map((names) => names.join('/'));
const mode = fc.constantFrom(0o644, 0o755, 0o4755, 0o600);
const change: fc.Arbitrary<Change> = fc.oneof(
  { weight: 5, arbitrary: fc.record({ kind: fc.constant('file' as const), path, size: fc.nat(3000), mode }) },
  {
    weight: 3,
    arbitrary: fc.record({ kind: fc.constant('folder' as const), path, mode: fc.constantFrom(0o755, 0o700) }),
  },
  { weight: 1, arbitrary: fc.record({ kind: fc.constant('symlink' as const), path }) },
  { weight: 1, arbitrary: fc.record({ kind: fc.constant('hardlink' as const), path, to: fc.nat(5) }) },
  { weight: 2, arbitrary: fc.record({ kind: fc.constant('whiteout' as const), path }) },
  { weight: 1, arbitrary: fc.record({ kind: fc.constant('opaque' as const), path }) },
);

/** Writes what a layer holds into a folder; what cannot be there beside the rest is left out. */
function writeChanges(at: string, changes: readonly Change[]): void {
  mkdirSync(at, { recursive: true });
  const files: string[] = [];
  for (const each of changes) {
    const name = each.path.split('/').at(-1) ?? '';
    const own = each.kind === 'whiteout' ? `.wh.${name}` : each.kind === 'opaque' ? `${name}/.wh..wh..opq` : name;
    const target = join(at, dirname(each.path), own);
    const above = each.path.split('/').slice(0, each.kind === 'opaque' ? undefined : -1);
    const blocked = above.some((_, end) => {
      const parent = join(at, ...above.slice(0, end + 1));
      return existsSync(parent) ? !lstatSync(parent).isDirectory() : isLink(parent);
    });
    if (blocked || existsSync(target) || isLink(target)) {
      continue;
    }
    mkdirSync(dirname(target), { recursive: true });
    switch (each.kind) {
      case 'file':
        writeFileSync(target, 'x'.repeat(each.size));
        chmodSync(target, each.mode);
        files.push(target);
        break;
      case 'folder':
        mkdirSync(target);
        chmodSync(target, each.mode);
        break;
      case 'symlink':
        symlinkSync('nowhere', target);
        break;
      case 'hardlink': {
        const to = files[each.to % Math.max(1, files.length)];
        if (to !== undefined) {
          linkSync(to, target);
        }
        break;
      }
      default:
        writeFileSync(target, '');
    }
  }
}

function isLink(at: string): boolean {
  return look(at)?.isSymbolicLink() === true;
}

/** What is at a path; undefined where there is nothing, or where what is above it is no folder. */
function look(at: string) {
  try {
    return lstatSync(at);
  } catch {
    return undefined;
  }
}

/** Every path below a folder, folders first. */
function walk(at: string, below = ''): string[] {
  return readdirSync(join(at, below))
    .sort()
    .flatMap((name) => {
      const own = join(below, name);
      const found = lstatSync(join(at, own));
      return [own, ...(found.isDirectory() ? walk(at, own) : [])];
    });
}

/** The plain way: what a whiteout names is removed, what changes its type too, and `tar` does the rest. */
function layOver(root: string, layer: string, archive: string): void {
  const paths = walk(layer);
  for (const each of paths) {
    const name = each.split('/').at(-1) ?? '';
    const at = join(root, dirname(each));
    if (look(at)?.isDirectory() !== true) {
      continue;
    }
    if (name === '.wh..wh..opq') {
      readdirSync(at).forEach((child) => rmSync(join(at, child), { recursive: true }));
    } else if (name.startsWith('.wh.')) {
      rmSync(join(at, name.slice(4)), { recursive: true, force: true });
    }
  }
  for (const each of paths) {
    const there = look(join(root, each));
    if (there !== undefined && !(there.isDirectory() && lstatSync(join(layer, each)).isDirectory())) {
      rmSync(join(root, each), { recursive: true });
    }
  }
  execFileSync('tar', ['-xpf', archive, '-C', root, '--exclude=.wh.*']);
}

function onDisk(root: string): unknown[] {
  return walk(root).map((each) => {
    const found = lstatSync(join(root, each));
    const kind = found.isDirectory() ? 'folder' : found.isSymbolicLink() ? 'symlink' : 'file';
    const size = kind === 'file' ? found.size : 0;
    const link = kind === 'symlink' ? readlinkSync(join(root, each)) : undefined;
    return { path: each, kind, size, mode: kind === 'symlink' ? 0 : found.mode & 0o7777, link };
  });
}

async function* piecesOf(bytes: Buffer, length: number): AsyncGenerator<Uint8Array> {
  for (let at = 0; at < bytes.length; at += length) {
    yield await Promise.resolve(bytes.subarray(at, at + length));
  }
}

const read = async (bytes: Buffer, length = 1000): Promise<ReadMember[]> => {
  const members: ReadMember[] = [];
  const label = 'a layer';
  await readLayer(unpacked(piecesOf(bytes, length), label), {
    label,
    hashing: true,
    member: (each) => members.push(each),
  });
  return members;
};

test('200 random stacks of layers give what tar and a plain union leave on disk', async () => {
  const formats = fc.constantFrom('gnu', 'pax', 'ustar');
  await fc.assert(
    fc.asyncProperty(
      fc.array(fc.array(change, { maxLength: 12 }), { minLength: 1, maxLength: 4 }),
      formats,
      fc.integer({ min: 100, max: 5000 }),
      fc.boolean(),
      async (layers, format, length, gzip) => {
        const here = mkdtempSync(join(folder, 'stack-'));
        const root = join(here, 'root');
        mkdirSync(root);
        const tree = new LayerTree();
        for (const [at, changes] of layers.entries()) {
          const layer = join(here, `${at}`);
          writeChanges(layer, changes);
          const archive = join(here, `${at}.tar`);
          execFileSync('tar', ['-cf', archive, `--format=${format}`, '-C', layer, '.']);
          tree.nextLayer();
          const bytes = readFileSync(archive);
          (await read(gzip ? gzipSync(bytes) : bytes, length)).forEach((entry) => tree.add(entry));
          layOver(root, layer, archive);
        }
        const made = [...tree.paths()].map(([at, { kind, size, mode: rights, link }]) => ({
          path: at,
          kind: kind === 'hardlink' ? 'file' : kind,
          size,
          mode: kind === 'symlink' ? 0 : rights & 0o7777,
          link: kind === 'symlink' ? link : undefined,
        }));
        const bySpelling = (a: { path: string }, b: { path: string }) => (a.path < b.path ? -1 : 1);
        expect(made.sort(bySpelling)).toEqual((onDisk(root) as { path: string }[]).sort(bySpelling));
        rmSync(here, { recursive: true });
      },
    ),
    { numRuns: 200 },
  );
}, 300_000);

test('names that are long, not UTF-8 or lead out, sparse files, and links through folders', async () => {
  mkdirSync(join(folder, 'l', 'usr', 'lib'), { recursive: true });
  const long = `${'d'.repeat(90)}/${'e'.repeat(90)}/${'f'.repeat(90)}`;
  mkdirSync(join(folder, 'l', dirname(long)), { recursive: true });
  writeFileSync(join(folder, 'l', long), 'long');
  symlinkSync(`/${'g'.repeat(150)}`, join(folder, 'l', 'link'));
  symlinkSync('usr/lib', join(folder, 'l', 'lib'));
  execFileSync('sh', ['-c', 'printf x > "$(printf \'l/caf\\351\')"; truncate -s 5M l/sparse; printf y >> l/sparse'], {
    cwd: folder,
  });
  for (const [format, ...more] of [['gnu'], ['gnu', '--sparse'], ['pax'], ['pax', '--sparse']]) {
    const archive = join(folder, 'layer.tar');
    execFileSync('tar', ['-cf', archive, `--format=${format ?? ''}`, ...more, '-C', join(folder, 'l'), '.']);
    const members = await read(readFileSync(archive));
    const names = members.map((each) => each.path);
    expect(names).toEqual(expect.arrayContaining([long, 'caf\\xe9', 'sparse']));
    expect(members.find((each) => each.path === 'link')?.link).toHaveLength(151);
  }
  const tree = new LayerTree();
  const entry = (at: string, more: Partial<ReadMember> = {}) =>
    tree.add({ path: at, kind: 'file', size: 1, mode: 0o644, link: undefined, ...more });
  tree.nextLayer();
  entry('usr/lib', { kind: 'folder' });
  entry('lib', { kind: 'symlink', link: 'usr/lib' });
  entry('loop', { kind: 'symlink', link: 'loop' });
  tree.nextLayer();
  entry('lib/x');
  entry('loop/y');
  entry('../../etc/z');
  expect([...tree.paths()].map(([at]) => at)).toEqual(expect.arrayContaining(['usr/lib/x', 'etc/z']));
});

test.each([
  ['is no .tar', Buffer.alloc(2000, 'noise')],
  ['was cut', Buffer.concat([readableTar('a', 4000), Buffer.alloc(100)]).subarray(0, 1500)],
  ['has a name without an end', Buffer.concat([tarHeader('x', 'x', 2 ** 31), Buffer.alloc(512)])],
  ['is compressed otherwise', Buffer.from('fd377a585a000000', 'hex')],
  ['is damaged zstd', Buffer.from('28b52ffd0000000000', 'hex')],
])('a layer that %s', async (_, bytes) => {
  await failing('archive-corrupt', () => read(bytes));
});

test('what is compressed with zstd is read', async () => {
  // One frame with a raw block (RFC 8878 §3.1.1): a .tar of one empty file.
  const tar = Buffer.concat([tarHeader('gauge', '0', 0), Buffer.alloc(1024)]);
  const block = Buffer.alloc(3);
  block.writeUIntLE((tar.length << 3) | 1, 0, 3);
  const frame = Buffer.concat([Buffer.from('28b52ffd', 'hex'), Buffer.from([0x60]), sizeField(tar.length), block, tar]);
  expect((await read(frame, 40)).map((each) => each.path)).toEqual(['gauge']);
});

/** A frame of blocks that say one byte and how often (RFC 8878 §3.1.1.2.2): 4 bytes for 128 KiB. */
function* repeated(blocks: number, window: number): Generator<Uint8Array> {
  yield Buffer.from([0x28, 0xb5, 0x2f, 0xfd, 0x00, window]);
  for (let at = 1; at <= blocks; at += 1) {
    const block = Buffer.alloc(4);
    block.writeUIntLE(((128 * 1024) << 3) | 2 | (at === blocks ? 1 : 0), 0, 3);
    yield block;
  }
}

async function* asPieces(pieces: Iterable<Uint8Array>): AsyncGenerator<Uint8Array> {
  yield* await Promise.resolve(pieces);
}

test('what is small and unpacks to gigabytes comes a block at a time, and no further than it is asked for', async () => {
  let taken = 0;
  function* counted(): Generator<Uint8Array> {
    // As one piece of 64 kB holds them all.
    yield Buffer.concat([...repeated(16_000, 0x38)]);
    taken += 1;
  }
  let bytes = 0;
  for await (const piece of unpacked(asPieces(counted()), 'a layer')) {
    expect(piece.length).toBeLessThanOrEqual(128 * 1024);
    bytes += piece.length;
    if (bytes > 8 * 1024 ** 2) {
      break;
    }
  }
  expect([bytes < 9 * 1024 ** 2, taken]).toEqual([true, 0]);
});

test.each([
  ['a window of 1.9 GiB', [...repeated(1, 0xa7)]],
  ['a window of 256 MiB', [...repeated(1, 0x90)]],
  ['one segment of 4 GiB', [Buffer.from('28b52ffda000000080', 'hex'), Buffer.alloc(8)]],
  ['a block that is cut off', [Buffer.concat([...repeated(3, 0x38)]).subarray(0, 12)]],
  ['a block larger than any', [Buffer.from('28b52ffd0038', 'hex'), Buffer.from([0xfb, 0xff, 0xff, 0])]],
])('zstd with %s is refused before it is unpacked', async (_, pieces) => {
  const unpacking = async (): Promise<void> => {
    for await (const piece of unpacked(asPieces(pieces), 'a layer')) {
      expect(piece.length).toBeLessThanOrEqual(128 * 1024);
    }
  };
  await expect(unpacking()).rejects.toMatchObject({ code: 'archive-corrupt' });
});

test('a name that GNU tar cuts behind a slash is that of a file, whose content is none of the members', async () => {
  const name = `${'d'.repeat(99)}/${'f'.repeat(20)}`;
  const long = Buffer.alloc(512);
  long.write(name);
  const inner = readableTar('etc/shadow', 0).subarray(0, 512);
  const tar = Buffer.concat([
    tarHeader('././@LongLink', 'L', name.length + 1),
    long,
    tarHeader(name.slice(0, 100), '0', inner.length),
    inner,
    tarHeader('after', '0', 0),
    Buffer.alloc(1024),
  ]);
  expect((await read(tar)).map(({ path: at, kind, size }) => [at, kind, size])).toEqual([
    [name, 'file', 512],
    ['after', 'file', 0],
  ]);
  // As its own name, POSIX calls it a folder; its content is no member all the same.
  const older = Buffer.concat([
    tarHeader('old/', '0', inner.length),
    inner,
    tarHeader('after', '0', 0),
    Buffer.alloc(1024),
  ]);
  expect((await read(older)).map((each) => each.path)).toEqual(['old', 'after']);
});

test('a sparse file is as long as it reads, and a file that another name shows is not hidden', async () => {
  mkdirSync(join(folder, 'l'));
  execFileSync('truncate', ['-s', '1M', join(folder, 'l', 'sparse')]);
  execFileSync('sh', ['-c', 'printf y >> l/sparse'], { cwd: folder });
  for (const format of ['gnu', 'pax']) {
    const archive = join(folder, 'layer.tar');
    execFileSync('tar', ['-cf', archive, `--format=${format}`, '--sparse', '-C', join(folder, 'l'), 'sparse']);
    expect((await read(readFileSync(archive))).map(({ size }) => size)).toEqual([1024 ** 2 + 1]);
  }
  const tree = new LayerTree();
  const add = (at: string, more: Partial<ReadMember> = {}) =>
    tree.add({ path: at, kind: 'file', size: 7, mode: 0o644, link: undefined, ...more });
  tree.nextLayer();
  add('one');
  add('two', { kind: 'hardlink', link: 'one' });
  add('alone');
  tree.nextLayer();
  add('.wh.one');
  add('.wh.alone');
  expect(tree.hidden.map((each) => each.path)).toEqual(['alone']);
  tree.nextLayer();
  add('.wh.two');
  expect(tree.hidden.map((each) => each.path)).toEqual(['one', 'alone']);
});

test('whiteouts, links and names without end take no time without end', async () => {
  const tree = new LayerTree();
  const add = (at: string, more: Partial<ReadMember> = {}) =>
    tree.add({ path: at, kind: 'file', size: 1, mode: 0o644, link: undefined, ...more });
  tree.nextLayer();
  tree.nextLayer();
  for (let at = 0; at < 200_000; at += 1) {
    add(`d/${at}`);
    add('d/.wh..wh..opq');
    add('.wh.d');
  }
  expect(tree.find('d')?.children?.size).toBe(200_000);
  const link = Buffer.alloc(1024 * 512, 'a/');
  const tar = Buffer.concat([
    tarHeader('././@LongLink', 'K', link.length),
    link,
    tarHeader('loop', '2', 0),
    Buffer.alloc(1024),
  ]);
  await failing('archive-corrupt', () => read(tar));
  add('deep', { kind: 'symlink', link: 'a/'.repeat(300_000) });
  add('deep/x');
  expect(tree.made).toBeGreaterThan(500_000);
});

function sizeField(size: number): Buffer {
  const field = Buffer.alloc(2);
  field.writeUInt16LE(size - 256);
  return field;
}

function readableTar(name: string, size: number): Buffer {
  return Buffer.concat([tarHeader(name, '0', size), Buffer.alloc(Math.ceil(size / 512) * 512), Buffer.alloc(1024)]);
}
