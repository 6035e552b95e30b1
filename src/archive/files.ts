import { constants } from 'node:fs';
import { open, type FileHandle } from 'node:fs/promises';
import { HodError, messageOf } from '../core/errors';

/**
 * The files of an image layout, wherever they are kept. Names are relative, with `/` between their
 * parts, and never lead outside.
 */
export interface LayoutFiles {
  /** The folder or the .tar, for messages. */
  readonly label: string;
  /** The first names in it, for messages. */
  names(): Promise<string[]>;
  /** Bytes of the named file; undefined where there is none. Throws `corrupt` for a link. */
  size(name: string): Promise<number | undefined>;
  /** The bytes of a file that {@link size} found, from a byte on; see {@link fileBytes}. */
  open(name: string, from?: number): AsyncIterable<Uint8Array>;
}

/** How many names of files are told in a message. */
export const namesTold = 5;

/** Bytes read at a time: large enough to keep a connection busy, small enough to hold many at once. */
const readSize = 512 * 1024;

/**
 * The bytes of a file, or of a part of it, as they are read, in two buffers in turn: a piece stays as it is
 * until the next but one is asked for. Opened when the first are asked for, and closed however the reading
 * ends. Throws `file-unreadable` where the disk or the system says no.
 */
export async function* fileBytes(
  path: string,
  { start = 0, size }: { start?: number | undefined; size?: number } = {},
): AsyncGenerator<Uint8Array> {
  const { handle, length } = await openFile(path);
  try {
    let at = start;
    const end = size === undefined ? length : at + size;
    let buffer = Buffer.alloc(0);
    let other = buffer;
    while (at < end) {
      const wanted = Math.min(readSize, end - at);
      [buffer, other] = [other.length < wanted ? Buffer.allocUnsafeSlow(wanted) : other, buffer];
      const { bytesRead } = await naming(path, handle.read(buffer, 0, wanted, at));
      if (bytesRead === 0) {
        return;
      }
      at += bytesRead;
      yield buffer.subarray(0, bytesRead);
    }
  } finally {
    await handle.close();
  }
}

/** Opens a plain file, of so many bytes; a pipe in its place is not waited for. Throws `file-unreadable`. */
export async function openFile(path: string): Promise<{ handle: FileHandle; length: number }> {
  const handle = await naming(path, open(path, constants.O_RDONLY | constants.O_NONBLOCK));
  const found = await naming(path, handle.stat());
  if (found.isFile()) {
    return { handle, length: found.size };
  }
  await handle.close();
  throw unreadable(path, new Error('it is no plain file'));
}

/** Waits for work on a file. Throws `file-unreadable` where the disk or the system says no. */
export async function naming<T>(path: string, work: Promise<T>): Promise<T> {
  try {
    return await work;
  } catch (error) {
    throw error instanceof HodError ? error : unreadable(path, error);
  }
}

/** The error for a file that the disk or the system does not let us read. */
export function unreadable(object: string, error: unknown): HodError {
  return new HodError(
    'file-unreadable',
    {
      what: 'a file of a build output cannot be read',
      object,
      why: messageOf(error),
      next: 'let this user read it, or build it again; nothing was tagged',
    },
    { cause: error },
  );
}
