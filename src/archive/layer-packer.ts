import { digestHasher } from '../core/oci/digest';
import { fileBytes, type PlainFile } from './files';
import { gzipped } from './gzip/gzip';
import { DeflateThreads } from './gzip/threads';
import type { PackedLayer, PackedLayers } from './packing';
import { hashed, type PlainLayer } from './plain-layer';
import { keepTemporarily } from './temporary';

/** A layer, compressed. */
export interface OpenedLayer extends PackedLayer {
  open(from: number): AsyncIterable<Uint8Array>;
}

/**
 * Compresses a layer, in one pass: what comes out is kept until the run ends, and what it is, for later ones. A layer
 * that is known is compressed only where somebody asks for its bytes.
 *
 * Throws `corrupt` where its bytes are not what the diff ID says.
 *
 * @param begins Told when it begins to compress, which takes a while.
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
