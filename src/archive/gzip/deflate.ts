import { Deflate, Z_FINISH, Z_SYNC_FLUSH } from 'pako';

/**
 * How hard it is tried. With the version of the package, which is pinned, it decides the bytes, so the digests:
 * test/unit/gzip.test.ts holds them. The compressor of Node.js differs between versions and processors.
 */
const level = 6;

/** Compresses one block in this thread: see `BlockCompressor`. */
export function deflateBlock(
  block: Uint8Array,
  { before, last }: { readonly before: Uint8Array; readonly last: boolean },
): Uint8Array {
  const deflate = new Deflate({ level, raw: true, ...(before.length > 0 ? { dictionary: before } : {}) });
  const pieces: Uint8Array[] = [];
  deflate.onData = (piece) => void pieces.push(piece);
  deflate.push(block, last ? Z_FINISH : Z_SYNC_FLUSH);
  return Buffer.concat(pieces);
}
