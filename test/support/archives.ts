import { execFileSync } from 'node:child_process';
import { createHash } from 'node:crypto';
import { link, mkdir, mkdtemp, rm, symlink, writeFile } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { dirname, join } from 'node:path';
import { gzipSync } from 'node:zlib';
import { create } from 'tar';

/** A .tar of one file, as a builder writes a layer. */
export async function layerOf(name: string, text: string): Promise<Buffer> {
  const folder = await mkdtemp(join(tmpdir(), 'hod-layer-'));
  await writeFile(join(folder, name), text);
  const pieces: Buffer[] = [];
  for await (const piece of create({ cwd: folder, portable: true, mtime: new Date(0) }, [name])) {
    pieces.push(piece);
  }
  await rm(folder, { recursive: true });
  return Buffer.concat(pieces);
}

/** Names an image archive of the older kind by its builder's habits. */
export interface Habits {
  /** The config, by its digits. */
  config?: (hex: string) => string;
  layer?: (at: number, hex: string) => string;
  /** Layers as they stand in the archive. */
  pack?: (layer: Buffer) => Buffer;
  /** A layer that the image has before is a link to that. */
  links?: 'symbolic' | 'hard';
}

/** One image of an archive: what the config says beside its layers, and these. */
export interface ArchivedImage {
  config: object;
  layers: readonly Buffer[];
  /** Other keys of its entry, such as RepoTags. */
  entry?: object;
  /** Of its manifest, where it has one. */
  annotations?: Record<string, string>;
}

export const hexOf = (bytes: Buffer): string => createHash('sha256').update(bytes).digest('hex');

/** Writes an archive of the older kind into a folder. Answers the bytes of each config. */
export async function writeOlderArchive(
  folder: string,
  images: readonly ArchivedImage[],
  { config: configName, layer: layerName, pack = (layer) => layer, links }: Habits = {},
): Promise<Buffer[]> {
  const configs: Buffer[] = [];
  const entries: object[] = [];
  for (const { config, layers, entry } of images) {
    const diffIds = layers.map((layer) => `sha256:${hexOf(layer)}`);
    const bytes = Buffer.from(JSON.stringify({ ...config, rootfs: { type: 'layers', diff_ids: diffIds } }));
    const Config = (configName ?? ((hex) => `${hex}.json`))(hexOf(bytes));
    const written = new Map<string, string>();
    const Layers: string[] = [];
    for (const [at, layer] of layers.entries()) {
      const hex = hexOf(layer);
      const name = (layerName ?? ((place, digits) => `${digits.slice(0, 8)}${place}/layer.tar`))(at, hex);
      const path = join(folder, name);
      await mkdir(dirname(path), { recursive: true });
      const first = written.get(hex);
      if (first === undefined || links === undefined) {
        await writeFile(path, pack(layer));
      } else if (links === 'hard') {
        await link(join(folder, first), path);
      } else {
        await symlink(join('..', first), path);
      }
      written.set(hex, first ?? name);
      Layers.push(name);
    }
    await mkdir(dirname(join(folder, Config)), { recursive: true });
    await writeFile(join(folder, Config), bytes);
    configs.push(bytes);
    entries.push({ ...entry, Config, ...(Layers.length > 0 ? { Layers } : {}) });
  }
  await writeFile(join(folder, 'manifest.json'), JSON.stringify(entries));
  return configs;
}

/** Packs a folder as a .tar, or compressed, and removes the folder. */
export async function pack(folder: string, file: string): Promise<void> {
  execFileSync('tar', [file.endsWith('gz') ? '-czf' : '-cf', file, '-C', folder, '.']);
  await rm(folder, { recursive: true });
}

/** Writes an image layout with one image of compressed layers, its fields in another order than ours. Answers its config. */
export async function writePlainLayout(
  folder: string,
  { config, layers, annotations }: ArchivedImage,
  spoil: (config: string) => string = (text) => text,
): Promise<Buffer> {
  const blob = async (bytes: Buffer) => {
    await mkdir(join(folder, 'blobs', 'sha256'), { recursive: true });
    await writeFile(join(folder, 'blobs', 'sha256', hexOf(bytes)), bytes);
    return { size: bytes.length, digest: `sha256:${hexOf(bytes)}` };
  };
  const diff_ids = layers.map((layer) => `sha256:${hexOf(layer)}`);
  const configBytes = Buffer.from(
    spoil(JSON.stringify({ rootfs: { diff_ids, type: 'layers' }, ...config }, undefined, 1)),
  );
  const described = [];
  for (const layer of layers) {
    described.push({ ...(await blob(gzipSync(layer))), mediaType: 'application/vnd.oci.image.layer.v1.tar+gzip' });
  }
  const manifest = Buffer.from(
    JSON.stringify({
      layers: described,
      config: { ...(await blob(configBytes)), mediaType: 'application/vnd.oci.image.config.v1+json' },
      schemaVersion: 2,
      annotations,
      'x-builder': 'a key that nobody knows',
    }),
  );
  const root = { ...(await blob(manifest)), mediaType: 'application/vnd.oci.image.manifest.v1+json' };
  await writeFile(join(folder, 'index.json'), JSON.stringify({ manifests: [root], schemaVersion: 2 }));
  await writeFile(join(folder, 'oci-layout'), '{"imageLayoutVersion":"1.0.0"}\n');
  return configBytes;
}

/** The header of one entry of a .tar (POSIX.1-1988 ustar). */
export function tarHeader(name: string, type: string, size: number): Buffer {
  const block = Buffer.alloc(512);
  block.write(name, 0);
  block.write('0000644\0', 100);
  block.write(`${size.toString(8).padStart(11, '0')}\0`, 124);
  block.write(type, 156);
  block.write('ustar\0', 257);
  block.write('00', 263);
  return summed(block);
}

/** Bytes whose first block has the sum that a header has. */
export function summed(bytes: Buffer): Buffer {
  if (bytes.length >= 512) {
    bytes.fill(' ', 148, 156);
    const sum = bytes.subarray(0, 512).reduce((all, byte) => all + byte, 0);
    bytes.write(`${sum.toString(8).padStart(6, '0')}\0 `, 148);
  }
  return bytes;
}
