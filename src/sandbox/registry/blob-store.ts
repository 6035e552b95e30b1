import { createReadStream, createWriteStream } from 'node:fs';
import { mkdir, rename, rm, stat } from 'node:fs/promises';
import { join } from 'node:path';
import { Readable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import { digestHasher, matchesDigest, type Digest } from '../../core/oci/digest';

/** Where a sandbox registry keeps bytes: blobs, and uploads on their way to becoming blobs. */
export interface BlobStore {
  /** Bytes of a blob; undefined where there is none. */
  size(digest: Digest): Promise<number | undefined>;
  /** The bytes of a blob from `start` to `end`, both included. */
  read(digest: Digest, start: number, end: number): Readable;
  remove(digest: Digest): Promise<void>;
  /** Adds to an upload, which begins with the first call. What arrives before a fault stays. */
  append(upload: string, bytes: Readable): Promise<void>;
  /** Bytes of an upload so far. */
  length(upload: string): Promise<number>;
  /** Ends an upload. Answers false, and drops it, where it is to be checked and its bytes do not have the digest. */
  finish(upload: string, digest: Digest, checked: boolean): Promise<boolean>;
  drop(upload: string): Promise<void>;
}

/** Keeps everything in memory. */
export function memoryBlobs(): BlobStore {
  const blobs = new Map<Digest, Buffer>();
  const uploads = new Map<string, Buffer[]>();
  const lengthOf = (pieces: readonly Buffer[]): number => pieces.reduce((sum, { length }) => sum + length, 0);
  return {
    size: (digest) => Promise.resolve(blobs.get(digest)?.length),
    read: (digest, start, end) => Readable.from([blobs.get(digest)?.subarray(start, end + 1) ?? Buffer.alloc(0)]),
    remove: (digest) => Promise.resolve(void blobs.delete(digest)),
    async append(upload, bytes) {
      const pieces = uploads.get(upload) ?? [];
      uploads.set(upload, pieces);
      for await (const piece of bytes as AsyncIterable<Buffer>) {
        pieces.push(piece);
      }
    },
    length: (upload) => Promise.resolve(lengthOf(uploads.get(upload) ?? [])),
    finish(upload, digest, checked) {
      const bytes = Buffer.concat(uploads.get(upload) ?? []);
      uploads.delete(upload);
      const whole = !checked || matchesDigest(bytes, digest);
      if (whole) {
        blobs.set(digest, bytes);
      }
      return Promise.resolve(whole);
    },
    drop: (upload) => Promise.resolve(void uploads.delete(upload)),
  };
}

/** Keeps everything in a folder, so that it outlives the process and content may be large. */
export function folderBlobs(folder: string): BlobStore {
  const blobFile = (digest: Digest): string => join(folder, 'blobs', digest.replace(':', '-'));
  const uploadFile = (upload: string): string => join(folder, 'uploads', upload);
  const sizeOf = async (file: string): Promise<number | undefined> =>
    stat(file).then(
      ({ size }) => size,
      () => undefined,
    );
  return {
    size: (digest) => sizeOf(blobFile(digest)),
    read: (digest, start, end) => createReadStream(blobFile(digest), { start, end }),
    remove: (digest) => rm(blobFile(digest), { force: true }),
    async append(upload, bytes) {
      await mkdir(join(folder, 'uploads'), { recursive: true });
      const file = createWriteStream(uploadFile(upload), { flags: 'a' });
      const closed = new Promise<void>((resolve) => file.once('close', () => resolve()));
      try {
        await pipeline(bytes, file);
      } finally {
        // Where the connection breaks, a piece may still be on its way to the disk.
        await closed;
      }
    },
    length: async (upload) => (await sizeOf(uploadFile(upload))) ?? 0,
    async finish(upload, digest, checked) {
      const file = uploadFile(upload);
      if (checked && (await digestOf(file, digest)) !== digest) {
        await rm(file, { force: true });
        return false;
      }
      await mkdir(join(folder, 'blobs'), { recursive: true });
      await rename(file, blobFile(digest));
      return true;
    },
    drop: (upload) => rm(uploadFile(upload), { force: true }),
  };
}

async function digestOf(file: string, like: Digest): Promise<Digest> {
  const hasher = digestHasher(like);
  for await (const piece of createReadStream(file, { highWaterMark: 1024 * 1024 }) as AsyncIterable<Buffer>) {
    hasher.update(piece);
  }
  return hasher.digest();
}
