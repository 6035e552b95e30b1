import { HodError, messageOf } from '../core/errors';
import { leadsOut, nameParts } from '../core/oci/layer-names';
import { openPlainFile } from '../system/plain-files';

/**
 * The files of a build output, wherever they are kept. Names are relative, with `/` between their
 * parts, and never lead outside.
 */
export interface OutputFiles {
  /** The folder or the archive, for messages. */
  readonly label: string;
  /** The first names in it, for messages. */
  names(): Promise<string[]>;
  /** Bytes of the named file; undefined where there is none. Throws `corrupt` for a link that leads outside. */
  size(name: string): Promise<number | undefined>;
  /** The bytes of a file that {@link size} found, from a byte on; see {@link fileBytes}. */
  open(name: string, from?: number): AsyncIterable<Uint8Array>;
}

/** A plain file: one at a path, or one that is kept while a run needs it. */
export interface PlainFile {
  /** Its path, or what it was made of, for messages. */
  readonly label: string;
  /** Throws `file-unreadable`. */
  open(): Promise<OpenFile>;
}

/** A plain file that is open. */
export interface OpenFile {
  /** Bytes. */
  readonly length: number;
  /** Reads up to `length` bytes that stand at a place in it into a buffer; answers how many. Throws `file-unreadable`. */
  read(buffer: Buffer, length: number, at: number): Promise<number>;
  close(): Promise<void>;
}

/** How many names of files are told in a message. */
export const namesTold = 5;

/** Links that lead to links: more than any builder writes. */
export const linkLimit = 8;

/** A name within a build output, in its one form; undefined where it leads outside. */
export function nameWithin(name: string): string | undefined {
  return name.startsWith('/') || name.includes('\\') || leadsOut(name) ? undefined : nameParts(name).join('/');
}

/** Bytes read at a time: large enough to keep a connection busy, small enough to hold many at once. */
const readSize = 512 * 1024;

/**
 * The bytes of a file, or of a part of it, as they are read, in two buffers in turn: a piece stays as it is
 * until the next but one is asked for. Opened when the first are asked for, and closed however the reading
 * ends. Throws `file-unreadable` where the disk or the system says no.
 */
export async function* fileBytes(
  file: PlainFile,
  { start = 0, size }: { start?: number | undefined; size?: number } = {},
): AsyncGenerator<Uint8Array> {
  const open = await file.open();
  try {
    let at = start;
    const end = size === undefined ? open.length : at + size;
    let buffer = Buffer.alloc(0);
    let other = buffer;
    while (at < end) {
      const wanted = Math.min(readSize, end - at);
      [buffer, other] = [other.length < wanted ? Buffer.allocUnsafeSlow(wanted) : other, buffer];
      const count = await open.read(buffer, wanted, at);
      if (count === 0) {
        return;
      }
      at += count;
      yield buffer.subarray(0, count);
    }
  } finally {
    await open.close();
  }
}

/** The plain file at a path; a pipe in its place is not waited for. */
export function fileAt(path: string): PlainFile {
  return {
    label: path,
    async open() {
      const { handle, size } = await openPlainFile(path).catch((error: unknown) => {
        throw unreadable(path, error);
      });
      return {
        length: size,
        read: async (buffer, length, at) => (await readable(path, handle.read(buffer, 0, length, at))).bytesRead,
        close: () => handle.close(),
      };
    },
  };
}

/** Waits for work on a file. Throws `file-unreadable` where the disk or the system says no. */
export async function readable<T>(path: string, work: Promise<T>): Promise<T> {
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
      why: (error instanceof HodError ? error.problem.why : undefined) ?? messageOf(error),
      next: 'let this user read it, or build it again; nothing was tagged',
    },
    { cause: error },
  );
}
