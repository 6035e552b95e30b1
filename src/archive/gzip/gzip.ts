import { crc32 } from 'node:zlib';

/**
 * Compresses one block of many as raw DEFLATE (RFC 1951), so that the results, one after the other, are one stream.
 *
 * `before`: what stands before the block, as far as it may refer to it; `last`: it ends the stream.
 */
export type BlockCompressor = (
  block: Uint8Array<ArrayBuffer>,
  context: { readonly before: Uint8Array; readonly last: boolean },
) => Promise<Uint8Array>;

/** The bytes of a block; with the compressor, all that decides what comes out. */
const blockSize = 512 * 1024;
/** How far back DEFLATE refers. */
const windowSize = 32 * 1024;
/** No name, no time, an unknown system: nothing but the content (RFC 1952 §2.3). */
const header = Uint8Array.of(0x1f, 0x8b, 8, 0, 0, 0, 0, 0, 0, 0xff);

/**
 * Compresses with gzip (RFC 1952) so that the same bytes give the same bytes, however they arrive, whatever
 * machine it is, and however many blocks are compressed at once.
 */
export async function* gzipped(
  plain: AsyncIterable<Uint8Array>,
  compress: BlockCompressor,
  atOnce: number,
): AsyncGenerator<Uint8Array> {
  yield header;
  const underway: Promise<Uint8Array>[] = [];
  let [checksum, length] = [0, 0];
  let before = new Uint8Array(0);
  for await (const { block, last } of blocksOf(plain)) {
    checksum = crc32(block, checksum);
    length += block.length;
    const next = block.slice(-windowSize);
    const compressing = compress(block, { before, last });
    // Whoever fails is seen when it is its turn.
    compressing.catch(() => undefined);
    underway.push(compressing);
    before = next;
    if (underway.length >= atOnce) {
      yield (await underway.shift()) ?? new Uint8Array(0);
    }
  }
  for (const compressing of underway) {
    yield await compressing;
  }
  const trailer = Buffer.alloc(8);
  trailer.writeUInt32LE(checksum, 0);
  trailer.writeUInt32LE(length % 2 ** 32, 4);
  yield trailer;
}

/** Cuts bytes into blocks of one size, each a copy of its own; the last may be shorter, or empty. */
async function* blocksOf(
  bytes: AsyncIterable<Uint8Array>,
): AsyncGenerator<{ block: Uint8Array<ArrayBuffer>; last: boolean }> {
  let block = new Uint8Array(blockSize);
  let filled = 0;
  for await (const piece of bytes) {
    for (let at = 0; at < piece.length;) {
      if (filled === blockSize) {
        yield { block, last: false };
        block = new Uint8Array(blockSize);
        filled = 0;
      }
      const part = piece.subarray(at, at + blockSize - filled);
      block.set(part, filled);
      filled += part.length;
      at += part.length;
    }
  }
  yield { block: block.subarray(0, filled), last: true };
}
