import * as z from 'zod';
import { onePiece } from '../core/bytes';
import type { ContentSource } from '../core/oci/content';
import type { Descriptor } from '../core/oci/descriptor';
import { digestHasher, digestSchema, sha256, type Digest } from '../core/oci/digest';
import { describeManifest, imageManifest } from '../core/oci/manifest';
import { mediaTypes } from '../core/oci/media-types';
import { beginningOf } from './beginnings';
import { corruptOutput, parseDocument, readDocument, readWhole } from './document';
import { unrecognised, type OutputImage, type OpenedOutput } from './output-images';
import { nameWithin, type OutputFiles } from './files';
import { gunzipped } from './gunzip';
import { packLayer, type OpenedLayer } from './layer-packer';
import type { Packing } from './packing';
import { hashed } from './plain-layer';

const imageSchema = z.object({
  Config: z.string().min(1),
  RepoTags: z.array(z.string()).nullish(),
  Layers: z.array(z.string().min(1)).nullish(),
});
type ListedImage = z.infer<typeof imageSchema>;

const configSchema = z.object({ rootfs: z.object({ diff_ids: z.array(digestSchema).nullish() }) });

/** A layer of an image, and its media type. */
interface Layer extends OpenedLayer {
  readonly mediaType: string;
  /** Its bytes as the archive has them, where it was compressed for publishing. */
  plain?(): AsyncIterable<Uint8Array>;
}

/**
 * The images of an archive of the older kind: a manifest.json names the config and the layers of each. An image is called by
 * its names, with their tags or without.
 *
 * Throws `corrupt` where it cannot be trusted.
 */
export async function olderImages(files: OutputFiles, packing: Packing): Promise<OutputImage[]> {
  const images = await readDocument(files, 'manifest.json', z.array(imageSchema));
  return images.map((image) => {
    const names = image.RepoTags ?? [];
    return {
      names: [...names, ...names.map((name) => name.replace(/:[^:/]*$/, ''))],
      identity: JSON.stringify([image.Config, image.Layers]),
      open: () => openImage(files, image, packing),
    };
  });
}

/**
 * Opens one image. Its config is kept byte for byte, and a manifest is made for it. Layers that are compressed go as they
 * are, plain ones as `packing` says; the config says what each must be once it is unpacked.
 */
async function openImage(files: OutputFiles, { Config, Layers }: ListedImage, packing: Packing): Promise<OpenedOutput> {
  const config = await readConfig(files, Config);
  const names = Layers ?? [];
  if (names.length !== config.diffIds.length) {
    throw corruptOutput(
      files,
      'manifest.json',
      `it names ${names.length} layers of ${Config}, and that says it has ${config.diffIds.length}`,
    );
  }
  const layers: Layer[] = [];
  const opened = new Map<Digest, Layer>();
  for (const [at, diffId] of config.diffIds.entries()) {
    // A layer that an image has twice is compressed once.
    const layer =
      opened.get(diffId) ??
      (await openLayer(files, names[at] ?? '', { diffId, place: `layer ${at + 1} of ${names.length}` }, packing));
    opened.set(diffId, layer);
    layers.push(layer);
  }
  const manifest = imageManifest(
    { mediaType: mediaTypes.config, digest: config.digest, size: config.bytes.length },
    layers.map(({ mediaType, digest, size }) => ({ mediaType, digest, size })),
  );
  const bytesOf = new Map([...opened.values()].map((layer) => [layer.digest, layer]));
  const source: ContentSource = {
    label: files.label,
    readManifest: () => Promise.resolve(manifest.bytes),
    openBlob: ({ digest }: Descriptor, from = 0) =>
      Promise.resolve(bytesOf.get(digest)?.open(from) ?? onePiece(config.bytes.subarray(from))),
    openPlain: ({ digest }) => bytesOf.get(digest)?.plain?.(),
  };
  return { source, root: describeManifest(manifest) };
}

async function readConfig(
  files: OutputFiles,
  given: string,
): Promise<{ bytes: Uint8Array; digest: Digest; diffIds: readonly Digest[] }> {
  const name = withinOrCorrupt(files, given);
  if ((await files.size(name)) === undefined) {
    throw corruptOutput(files, 'manifest.json', `it names ${given}, which is not there`);
  }
  const bytes = await readWhole(files, name);
  const digest = sha256(bytes);
  // Most builders call it by its digest: then that has to be true.
  const promised = /(?:^|[/:])([a-f0-9]{64})(?:\.json)?$/.exec(given)?.[1];
  if (promised !== undefined && digest !== `sha256:${promised}`) {
    throw corruptOutput(files, name, `its bytes have the digest ${digest}`);
  }
  const { rootfs } = parseDocument(bytes, files, name, configSchema);
  return { bytes, digest, diffIds: rootfs.diff_ids ?? [] };
}

async function openLayer(
  files: OutputFiles,
  given: string,
  { diffId, place }: { diffId: Digest; place: string },
  packing: Packing,
): Promise<Layer> {
  const name = withinOrCorrupt(files, given);
  const size = await files.size(name);
  if (size === undefined) {
    throw corruptOutput(files, 'manifest.json', `it names the layer ${given}, which is not there`);
  }
  const label = `${name} in ${files.label}`;
  const open = (from = 0) => files.open(name, from);
  const kind = beginningOf(await firstBytes(open()));
  if (kind?.kind === 'gzip') {
    const digest = await digestOfZipped(open(), { label, diffId });
    return { mediaType: mediaTypes.layerTarGzip, digest, size, open };
  }
  if (kind !== undefined) {
    throw unrecognised(label, `${kind.says}; layers may be plain, or compressed with gzip`);
  }
  if (packing.compression === 'none') {
    return { mediaType: mediaTypes.layerTar, digest: diffId, size, open };
  }
  const plain = { label, diffId, open };
  return {
    mediaType: mediaTypes.layerTarGzip,
    plain: () => hashed(plain),
    ...(await packLayer(plain, packing.known, () => {
      packing.note(`compressing ${place} of ${files.label}`);
    })),
  };
}

/** The digest of a layer that is compressed already. Throws `corrupt` where it does not unpack to what the config says. */
async function digestOfZipped(
  zipped: AsyncIterable<Uint8Array>,
  { label, diffId }: { label: string; diffId: Digest },
): Promise<Digest> {
  const hasher = digestHasher();
  const passing = async function* () {
    for await (const piece of zipped) {
      hasher.update(piece);
      yield piece;
    }
  };
  const unpacked = hashed({ label, diffId, open: () => gunzipped(passing(), label) });
  // All of it must be read; nobody needs it.
  while ((await unpacked.next()).done !== true);
  return hasher.digest();
}

async function firstBytes(bytes: AsyncIterable<Uint8Array>): Promise<Buffer> {
  for await (const piece of bytes) {
    return Buffer.from(piece.subarray(0, 512));
  }
  return Buffer.alloc(0);
}

function withinOrCorrupt(files: OutputFiles, name: string): string {
  const within = nameWithin(name);
  if (within === undefined || within === '') {
    throw corruptOutput(files, 'manifest.json', `it names ${JSON.stringify(name)}, which leads outside`);
  }
  return within;
}
