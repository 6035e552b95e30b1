import type { FileHandle } from 'node:fs/promises';
import { HodError } from '../core/errors';
import {
  emptyHead,
  endLine,
  headAfter,
  openEntry,
  readEndLine,
  type Head,
  type SealedEntry,
} from '../core/ledger/entry';
import { sha256 } from '../core/oci/digest';
import { fileUnusable, openPlainFile } from '../system/plain-files';
import { writeFile } from '../system/write-file';

/** Bytes read at a time, and of the longest line: an entry about hundreds of images with dozens of tags has a few million. */
const readSize = 256 * 1024;
/**
 * An entry about hundreds of images with dozens of tags has a few million bytes.
 * @limit a line of an exported ledger | bytes | `ledger-entry-corrupt`
 */
const lineLimit = 32 * 1024 * 1024;

/**
 * Writes every entry to a file, a line each, exactly as it is stored; the last line names the head that they lead to. Answers
 * that head.
 *
 * @throws {@link HodError} `file-unusable` where the file cannot be written.
 */
export async function writeCopy(file: string, entries: AsyncIterable<SealedEntry>): Promise<Head> {
  let head: Head = emptyHead;
  async function* lines() {
    for await (const sealed of entries) {
      head = headAfter(sealed);
      yield `${sealed.text}\n`;
    }
    yield `${endLine(head)}\n`;
  }
  await writeFile(file, lines()).catch((error: unknown) => {
    throw fileUnusable(file, error);
  });
  return head;
}

/**
 * Reads the entries of a copy, each checked against the one before.
 *
 * @throws {@link HodError} `ledger-entry-corrupt` where they are no whole chain, `other-product` for those of another product.
 */
export async function* readCopy(file: string, product: string): AsyncGenerator<SealedEntry> {
  let head: Head = emptyHead;
  for await (const text of entryLines(file)) {
    const sealed = openEntry({ text, hash: sha256(text) }, head);
    if (sealed.entry.product !== product) {
      throw otherProduct(sealed.entry.product, product, file);
    }
    yield sealed;
    head = headAfter(sealed);
  }
}

/** The lines of a copy that are entries. Throws `corrupt`, before the first, where the last line is not that of a whole copy. */
async function* entryLines(file: string): AsyncGenerator<string> {
  const { handle, size } = await openPlainFile(file).catch((error: unknown) => {
    throw fileUnusable(file, error);
  });
  try {
    const end = await readEnd(handle, size);
    if (end === undefined) {
      throw cutOff(file, 'its last line does not say where it ends, as that of `hod ledger export` does');
    }
    let seq = 0;
    let last: string | undefined;
    for await (const line of entryFileLines(handle, file)) {
      if (readEndLine(line) === undefined) {
        seq += 1;
        last = line;
        yield line;
      }
    }
    if (seq !== end.seq || (last === undefined ? null : sha256(last)) !== end.hash) {
      throw cutOff(file, `it ends with entry ${seq}, and says that it ends with another ${end.seq}`);
    }
  } finally {
    await handle.close();
  }
}

/** The head that the last line of a copy names. */
async function readEnd(handle: FileHandle, size: number): Promise<Head | undefined> {
  const length = Math.min(size, 1024);
  const { buffer } = await handle.read(Buffer.alloc(length), 0, length, size - length);
  return readEndLine(buffer.toString('utf8').trimEnd().split('\n').at(-1) ?? '');
}

/** The lines of a file of entries that are not empty. Throws `ledger-entry-corrupt` for one that no entry is as long as. */
export async function* entryFileLines(handle: FileHandle, file: string): AsyncGenerator<string> {
  let pieces: Buffer[] = [];
  let length = 0;
  for (let at = 0; ;) {
    const { bytesRead, buffer } = await handle.read(Buffer.allocUnsafe(readSize), 0, readSize, at);
    at += bytesRead;
    const read = buffer.subarray(0, bytesRead);
    let from = 0;
    for (let mark = read.indexOf(10); mark >= 0; mark = read.indexOf(10, from)) {
      const line = Buffer.concat([...pieces, read.subarray(from, mark)])
        .toString('utf8')
        .replace(/\r$/, '');
      pieces = [];
      length = 0;
      from = mark + 1;
      if (line !== '') {
        yield line;
      }
    }
    pieces.push(read.subarray(from));
    length += bytesRead - from;
    if (length > lineLimit) {
      throw cutOff(file, `a line in it has more than ${lineLimit} bytes, which no entry has`);
    }
    if (bytesRead === 0) {
      const line = Buffer.concat(pieces).toString('utf8');
      if (line !== '') {
        yield line;
      }
      return;
    }
  }
}

function cutOff(file: string, why: string): HodError {
  return new HodError('ledger-entry-corrupt', {
    what: 'this is no whole copy of a ledger',
    object: file,
    why,
    next: 'export the ledger again',
  });
}

function otherProduct(found: string, product: string, file: string): HodError {
  return new HodError('other-product', {
    what: 'these entries are of another product',
    object: file,
    why: `they are of ${found}, and hod.yaml is of ${product}`,
    next: 'name the right file, or the right configuration with --config',
  });
}
