import { HodError } from '../core/errors';
import { digestHasher, type Digest } from '../core/oci/digest';
import { fileBytes, type PlainFile } from './files';
import { gzipped } from './gzip/gzip';
import { DeflateThreads } from './gzip/threads';
import type { PackedLayer, PackedLayers } from './packing';
import { keepTemporarily } from './temporary';

/** A layer of a build output that is a plain .tar. */
export interface PlainLayer {
  /** How people name it, for messages. */
  readonly label: string;
  /** The digest of its bytes. */
  readonly diffId: Digest;
  open(): AsyncIterable<Uint8Array>;
}

/** A layer, compressed. */
export interface OpenedLayer extends PackedLayer {
  open(from: number): AsyncIterable<Uint8Array>;
}

/**
 * Compresses a layer, in one pass: what comes out is kept until the run ends, and what it is, for later ones. A layer
 * that is known is compressed only where somebody asks for its bytes.
 *
 * @param begins Told when it begins to compress, which takes a while.
 *
 * Throws `corrupt` where its bytes are not what the diff ID says.
 */
export async function packLayer(layer: PlainLayer, known: PackedLayers, begins: () => void): Promise<OpenedLayer> {
  const before = await known.of(layer.diffId).recall();
  if (before !== undefined) {
    let kept: Promise<PlainFile> | undefined;
    const open = async function* (from: number): AsyncGenerator<Uint8Array> {
      // An upload that breaks off asks again.
      yield* fileBytes(await (kept ??= compress(layer, begins).then(({ file }) => file)), { start: from });
    };
    return { ...before, open };
  }
  const { file, ...packed } = await compress(layer, begins);
  await known.of(layer.diffId).remember(packed);
  return { ...packed, open: (from) => fileBytes(file, { start: from }) };
}

async function compress(layer: PlainLayer, begins: () => void): Promise<PackedLayer & { file: PlainFile }> {
  begins();
  const threads = new DeflateThreads();
  try {
    const hasher = digestHasher();
    let size = 0;
    const bytes = async function* () {
      for await (const piece of gzipped(hashed(layer), threads.compress, threads.atOnce)) {
        hasher.update(piece);
        size += piece.length;
        yield piece;
      }
    };
    const file = await keepTemporarily(layer.label, bytes());
    return { file, digest: hasher.digest(), size };
  } finally {
    await threads.close();
  }
}

/** The bytes of a plain layer. Throws `corrupt`, at their end, where they are not what its diff ID says. */
export async function* hashed(layer: PlainLayer): AsyncGenerator<Uint8Array> {
  const { label, diffId } = layer;
  const hasher = digestHasher(diffId);
  for await (const piece of layer.open()) {
    hasher.update(piece);
    yield piece;
  }
  const digest = hasher.digest();
  if (digest !== diffId) {
    throw new HodError('content-corrupt', {
      what: 'a layer is not what the config of its image says',
      object: label,
      why: `its bytes have the digest ${digest}, and the config names ${diffId}`,
      next: 'build the image again, or write the archive again; nothing was tagged',
    });
  }
}
