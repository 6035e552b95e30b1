import { close, fstat, open, read, unlink, write } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { randomUUID } from 'node:crypto';
import { promisify } from 'node:util';
import { HodError, messageOf } from '../core/errors';
import { readable, type PlainFile } from './files';

const [openIt, readIt, writeIt, statIt] = [promisify(open), promisify(read), promisify(write), promisify(fstat)];
/** Whose file nobody holds any more, is closed: its room on the disk is free then. */
const forgotten = new FinalizationRegistry<number>((descriptor) => {
  close(descriptor);
});

/**
 * Keeps bytes in a file that has no name any more once it is open: however this run ends, also killed, nothing of it
 * stays. Throws `system-refused` where the disk is full, or does not take it.
 *
 * @param label What the bytes were made of, for messages.
 */
export async function keepTemporarily(label: string, bytes: AsyncIterable<Uint8Array>): Promise<PlainFile> {
  const path = join(tmpdir(), `hod-${randomUUID()}`);
  const descriptor = await refusing(openIt(path, 'wx+', 0o600));
  try {
    await refusing(promisify(unlink)(path));
    for await (const piece of bytes) {
      for (let at = 0; at < piece.length;) {
        at += (await refusing(writeIt(descriptor, piece, at))).bytesWritten;
      }
    }
  } catch (error) {
    close(descriptor);
    throw error;
  }
  const file: PlainFile = {
    label,
    // What reads it holds it, so that it is not forgotten meanwhile.
    open: async () => ({
      length: (await readable(label, statIt(descriptor))).size,
      read: async (buffer, length, at) => (await readable(label, readIt(descriptor, buffer, 0, length, at))).bytesRead,
      close: () => Promise.resolve(file).then(() => undefined),
    }),
  };
  forgotten.register(file, descriptor);
  return file;
}

async function refusing<T>(work: Promise<T>): Promise<T> {
  try {
    return await work;
  } catch (error) {
    throw new HodError(
      'system-refused',
      {
        what: 'what is unpacked or compressed cannot be kept for this run',
        object: tmpdir(),
        why: messageOf(error),
        next: 'make room there, or set TMPDIR to a folder with more',
      },
      { cause: error },
    );
  }
}
