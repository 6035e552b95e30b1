import * as fs from 'node:fs/promises';
import { basename, dirname, join } from 'node:path';
import { allBytes } from '../core/bytes';
import { systemErrorCode } from '../core/errors';
import { progress } from './write-all';
import { withLock } from './lock';

/** A part of a file: its bytes, or content whose size is known, and that tells whether bytes are all of it. */
export type FilePart =
  | { readonly bytes: Uint8Array }
  | {
      readonly size: number;
      readonly open: () => AsyncIterable<Uint8Array>;
      readonly isWhole: (bytes: AsyncIterable<Uint8Array>) => Promise<boolean>;
    };

/** Bytes that are read or compared at once. */
const pieceSize = 1024 * 1024;

/**
 * Writes a file part by part, under another name until it is whole. What an ended run left of it is checked and gone on with.
 *
 * @returns How many bytes were there already.
 * @throws The error of the system. What was written so far stays beside the file, as `.NAME.part`.
 */
export function writeResumably(path: string, parts: readonly FilePart[]): Promise<number> {
  const beside = join(dirname(path), `.${basename(path).slice(0, 100)}.part`);
  return withLock(beside, async () => {
    const handle = await openBeside(beside);
    try {
      const { kept, next } = await wholeParts(handle, parts);
      await handle.truncate(kept);
      let at = kept;
      for await (const pieces of readAhead(parts.slice(next))) {
        for await (const piece of pieces) {
          at += await writeAt(handle, piece, at);
        }
      }
      await handle.sync();
      await fs.rename(beside, path);
      return kept;
    } finally {
      await handle.close();
    }
  });
}

/** Parts of so many bytes are read while those before them are written, so many of them at once: a round trip for each would add up. */
const [smallPart, aheadAtOnce] = [1024 * 1024, 48];

async function* readAhead(
  parts: readonly FilePart[],
): AsyncGenerator<AsyncIterable<Uint8Array> | readonly Uint8Array[]> {
  const read = new Map<FilePart, Promise<Uint8Array>>();
  for (const [at, part] of parts.entries()) {
    for (const each of parts.slice(at, at + aheadAtOnce)) {
      if (!('bytes' in each) && each.size <= smallPart && !read.has(each)) {
        const reading = allBytes(each.open());
        // Where it fails, it fails when its turn comes.
        reading.catch(() => undefined);
        read.set(each, reading);
      }
    }
    const known = read.get(part);
    yield 'bytes' in part ? [part.bytes] : known === undefined ? part.open() : [await known];
    read.delete(part);
  }
}

async function openBeside(path: string): Promise<fs.FileHandle> {
  try {
    return await fs.open(path, 'r+');
  } catch (error) {
    if (systemErrorCode(error) !== 'ENOENT') {
      throw error;
    }
    return fs.open(path, 'wx+');
  }
}

/** Finds how many parts are there whole, and how many bytes these are. */
async function wholeParts(handle: fs.FileHandle, parts: readonly FilePart[]): Promise<{ kept: number; next: number }> {
  const { size: length } = await handle.stat();
  let kept = 0;
  for (const [next, part] of parts.entries()) {
    const size = 'bytes' in part ? part.bytes.length : part.size;
    if (kept + size > length) {
      return { kept, next };
    }
    const there = readRange(handle, kept, size);
    const isWhole = 'bytes' in part ? await isSame(there, part.bytes) : await part.isWhole(there);
    if (!isWhole) {
      return { kept, next };
    }
    kept += size;
  }
  return { kept, next: parts.length };
}

async function isSame(pieces: AsyncIterable<Uint8Array>, bytes: Uint8Array): Promise<boolean> {
  let at = 0;
  for await (const piece of pieces) {
    if (!Buffer.from(piece).equals(bytes.subarray(at, at + piece.length))) {
      return false;
    }
    at += piece.length;
  }
  return at === bytes.length;
}

async function* readRange(handle: fs.FileHandle, start: number, size: number): AsyncGenerator<Uint8Array> {
  for (let at = start; at < start + size;) {
    const buffer = Buffer.allocUnsafe(Math.min(pieceSize, start + size - at));
    const { bytesRead } = await handle.read(buffer, 0, buffer.length, at);
    if (bytesRead === 0) {
      return;
    }
    at += bytesRead;
    yield buffer.subarray(0, bytesRead);
  }
}

async function writeAt(handle: fs.FileHandle, piece: Uint8Array, start: number): Promise<number> {
  for (let at = 0; at < piece.length;) {
    at += progress((await handle.write(piece, at, piece.length - at, start + at)).bytesWritten);
  }
  return piece.length;
}
