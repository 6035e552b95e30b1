import fc from 'fast-check';
import { gunzipSync } from 'node:zlib';
import { deflateBlock } from '../../src/archive/gzip/deflate';
import { gzipped, type BlockCompressor } from '../../src/archive/gzip/gzip';
import { sha256 } from '../../src/core/oci/digest';

/** Some text and some noise, more than two blocks of it; the same on every machine. */
function content(size: number): Buffer {
  const bytes = Buffer.alloc(size);
  let state = 7;
  for (let at = 0; at < size; at += 1) {
    state = (Math.imul(state, 1_103_515_245) + 12_345) & 0x7fffffff;
    bytes[at] = at % 4096 < 3000 ? 97 + ((state >> 16) % 7) : state >> 16;
  }
  return bytes;
}

async function zip(bytes: Buffer, cuts: readonly number[], atOnce: number, late = false): Promise<Buffer> {
  const compress: BlockCompressor = async (block, context) => {
    // The first of those at once may be the last to be done.
    await new Promise((resolve) => (late && !context.last ? setTimeout(resolve, 5) : setImmediate(resolve)));
    return deflateBlock(block, context);
  };
  const pieces: Uint8Array[] = [];
  const ends = [...cuts, bytes.length].sort((a, b) => a - b);
  const plain = async function* () {
    for (const [at, end] of ends.entries()) {
      yield await Promise.resolve(bytes.subarray(ends[at - 1] ?? 0, end));
    }
  };
  for await (const piece of gzipped(plain(), compress, atOnce)) {
    pieces.push(piece);
  }
  return Buffer.concat(pieces);
}

// These digests are a promise: whoever publishes the same archive again, with any Hod, sends nothing. What changes
// them needs a new name for what is remembered of compressed layers (workspace/user-memory.ts).
test.each([
  [0, 'sha256:ac73670af3abed54ac6fb4695131f4099be9fbe39d6076c5d0264a6bbdae9d83'],
  [1_200_000, 'sha256:44353b14bfab629177dd491106b672eee3241cb244ca5f5d89759f274ce5b6d2'],
])('compressing %i bytes gives these', async (size, digest) => {
  const zipped = await zip(content(size), [], 1);
  expect(gunzipSync(zipped).equals(content(size))).toBe(true);
  expect(sha256(zipped)).toBe(digest);
});

test('however the bytes arrive, and however many blocks are compressed at once, the result is one', async () => {
  const size = 560_000;
  const bytes = content(size);
  const expected = sha256(await zip(bytes, [], 1));
  await fc.assert(
    fc.asyncProperty(fc.array(fc.nat(size - 1)), fc.integer({ min: 1, max: 4 }), async (cuts, atOnce) => {
      expect(sha256(await zip(bytes, cuts, atOnce, true))).toBe(expected);
    }),
    { numRuns: 3 },
  );
});

test.each([1, 524_287, 524_288, 524_289])('%i bytes come back', async (size) => {
  expect(gunzipSync(await zip(content(size), [], 2)).equals(content(size))).toBe(true);
});
