import { constants } from 'node:fs';
import { open, type FileHandle } from 'node:fs/promises';
import { isAbsolute, relative, sep } from 'node:path';
import { HodError, messageOf } from '../core/errors';

/** The error for a file that was named and cannot be read or written; any error of ours is passed on as it is. */
export function fileUnusable(file: string, error: unknown, next = 'name another file'): HodError {
  return error instanceof HodError
    ? error
    : new HodError(
        'file-unusable',
        { what: 'this file cannot be used', object: file, why: messageOf(error), next },
        { cause: error },
      );
}

/** Whether a path is that of a folder or leads into it; both absolute. */
export function isInside(folder: string, path: string): boolean {
  const way = relative(folder, path);
  return way !== '..' && !way.startsWith(`..${sep}`) && !isAbsolute(way);
}

/**
 * People write these files by hand.
 * @limit hod.yaml, a deployment file, a file with a secret | bytes | `file-unusable`
 */
const smallFile = 4 * 1024 * 1024;

/**
 * Reads a whole file of at most 4 MiB. Throws `file-unusable` for what is not a plain file (a pipe
 * may never end, and a device never does) or is larger, and the system's error where it cannot be read.
 */
export async function readSmallFile(path: string): Promise<Buffer> {
  const { handle, size } = await openPlainFile(path);
  try {
    if (size > smallFile) {
      throw unusable(path, `it has ${size} bytes, and at most ${smallFile} are read`);
    }
    return await handle.readFile();
  } finally {
    await handle.close();
  }
}

/** A plain file that is open, and how many bytes it has. */
export interface OpenedFile {
  readonly handle: FileHandle;
  readonly size: number;
}

/** Opens a plain file for reading, without waiting for whoever writes to a pipe. Throws `file-unusable` for anything else. */
export async function openPlainFile(path: string): Promise<OpenedFile> {
  const handle = await open(path, constants.O_RDONLY | constants.O_NONBLOCK);
  const found = await handle.stat();
  if (found.isFile()) {
    return { handle, size: found.size };
  }
  await handle.close();
  throw unusable(path, found.isDirectory() ? 'it is a folder' : 'it is a pipe or a device, which may never end');
}

function unusable(object: string, why: string): HodError {
  return new HodError('file-unusable', { what: 'this file cannot be used', object, why, next: 'name a plain file' });
}
