import { createHash } from 'node:crypto';
import { mkdir, readFile, rm, stat, utimes, writeFile } from 'node:fs/promises';
import { dirname, join } from 'node:path';
import { gzipSync } from 'node:zlib';
import { create } from 'tar';
import * as z from 'zod';
import { annotationKeys } from '../../core/oci/annotations';
import { emptyConfig } from '../../core/oci/bundle';
import { sha256 } from '../../core/oci/digest';
import { mediaTypes } from '../../core/oci/media-types';
import { parsePlatform, type Platform } from '../../core/oci/platform';
import { descriptorSchema, type Descriptor } from '../../core/oci/descriptor';

const layoutIndex = z.object({ manifests: z.array(descriptorSchema) });

/** Files of one layer: text by path. */
export type LayerFiles = Readonly<Record<string, string>>;

/** A made-up image for one platform. */
export interface SampleImage {
  /** `os/arch[/variant]`. */
  platform: string;
  layers: readonly LayerFiles[];
  /** The commit that it says it was built from. */
  revision?: string | undefined;
}

// Everything that a build writes bears this time, so that the same files give the same digests.
const epoch = new Date('2026-01-01T00:00:00Z');

/**
 * Writes an image layout (OCI image specification, image-layout.md) with one image, or with one
 * index of several; the same input gives the same digests.
 */
export async function writeSampleLayout(folder: string, images: readonly SampleImage[]): Promise<void> {
  await rm(folder, { recursive: true, force: true });
  await mkdir(join(folder, 'blobs', 'sha256'), { recursive: true });
  const manifests: Descriptor[] = [];
  for (const image of images) {
    manifests.push(await writeImage(folder, image));
  }
  const [only] = manifests;
  const root =
    only !== undefined && manifests.length === 1
      ? only
      : await writeJson(folder, mediaTypes.index, { schemaVersion: 2, mediaType: mediaTypes.index, manifests });
  await writeFile(join(folder, 'oci-layout'), JSON.stringify({ imageLayoutVersion: '1.0.0' }));
  await writeFile(join(folder, 'index.json'), JSON.stringify({ schemaVersion: 2, manifests: [root] }));
}

/** Writes something beside the image of a layout that refers to it, as builders write signatures. */
export async function attachToLayout(folder: string, type: string, text: string): Promise<void> {
  const file = join(folder, 'index.json');
  const { manifests } = layoutIndex.parse(JSON.parse(await readFile(file, 'utf8')));
  const [subject] = manifests;
  const config = await writeBlob(folder, emptyConfig.mediaType, Buffer.from(emptyConfig.bytes));
  const layer = await writeBlob(folder, type, Buffer.from(text));
  const artifact = await writeJson(folder, mediaTypes.manifest, {
    schemaVersion: 2,
    mediaType: mediaTypes.manifest,
    artifactType: type,
    config,
    layers: [layer],
    subject,
  });
  await writeFile(file, JSON.stringify({ schemaVersion: 2, manifests: [...manifests, artifact] }));
}

/** Packs a layout folder as a .tar. */
export async function packLayout(folder: string, file: string): Promise<void> {
  await create({ file, cwd: folder, portable: true }, ['oci-layout', 'blobs', 'index.json']);
  await rm(folder, { recursive: true });
}

async function writeImage(folder: string, image: SampleImage): Promise<Descriptor> {
  const platform: Platform = parsePlatform(image.platform);
  const layers: Descriptor[] = [];
  const diffIds: string[] = [];
  for (const files of image.layers) {
    const plain = await tarOf(folder, files);
    diffIds.push(`sha256:${createHash('sha256').update(plain).digest('hex')}`);
    layers.push(await writeBlob(folder, mediaTypes.layerTarGzip, gzipSync(plain, { level: 6 })));
  }
  const config = await writeJson(folder, mediaTypes.config, {
    ...platform,
    config: { Labels: { [annotationKeys.revision]: image.revision } },
    rootfs: { type: 'layers', diff_ids: diffIds },
  });
  const manifest = await writeJson(folder, mediaTypes.manifest, {
    schemaVersion: 2,
    mediaType: mediaTypes.manifest,
    config,
    layers,
    annotations: { [annotationKeys.revision]: image.revision },
  });
  return { ...manifest, platform };
}

async function tarOf(folder: string, files: LayerFiles): Promise<Buffer> {
  const root = join(folder, 'layer');
  for (const [path, text] of Object.entries(files)) {
    const file = join(root, path);
    await mkdir(dirname(file), { recursive: true });
    await writeFile(file, text, { mode: path.startsWith('app/bin/') ? 0o755 : 0o644 });
    await utimes(file, epoch, epoch);
  }
  const pieces: Buffer[] = [];
  const archive = create({ cwd: root, portable: true, mtime: epoch }, Object.keys(files).sort());
  for await (const piece of archive as AsyncIterable<Buffer>) {
    pieces.push(piece);
  }
  await rm(root, { recursive: true });
  return Buffer.concat(pieces);
}

function writeJson(folder: string, mediaType: string, document: object): Promise<Descriptor> {
  return writeBlob(folder, mediaType, Buffer.from(JSON.stringify(document)));
}

async function writeBlob(folder: string, mediaType: string, bytes: Buffer): Promise<Descriptor> {
  const digest = sha256(bytes);
  const file = join(folder, 'blobs', digest.replace(':', '/'));
  const known = await stat(file).catch(() => undefined);
  if (known === undefined) {
    await writeFile(file, bytes);
  }
  return { mediaType, digest, size: bytes.length };
}
