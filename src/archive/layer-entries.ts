import { createHash } from 'node:crypto';
import { HodError } from '../core/errors';
import { lookedAt, looksSecret } from '../core/oci/concerns';
import { leadsOut, nameParts } from '../core/oci/layer-names';
import type { EntryKind, LayerEntry } from '../core/oci/layer-tree';
import { tarNumbers } from './tar-header';

/** An entry as a layer has it, and what is to be said of it. */
export interface ReadEntry extends LayerEntry {
  readonly secret: boolean;
  /** Its name, or what it links to as a hard link, leads out of the root. */
  readonly leadsOut: boolean;
}

const blockSize = 512;
/** The longest extended header to read: names, not content. */
const extensionLimit = 1024 * 1024;
/** The longest path that systems take. */
const pathLimit = 4096;
/** The most that one layer may unpack to, in bytes. */
const unpackedLimit = 256 * 1024 ** 3;

const kinds: Readonly<Record<string, EntryKind>> = {
  '0': 'file',
  '\0': 'file',
  '7': 'file',
  S: 'file',
  '1': 'hardlink',
  '2': 'symlink',
  '3': 'device',
  '4': 'device',
  '5': 'folder',
  '6': 'fifo',
};

/**
 * The entries of a layer, which is a .tar, as it is read: nothing of its content is kept. Answers how many bytes it has.
 *
 * @param hashing Hash the content of each file.
 * @throws `archive-corrupt` where it is none, is cut off, or is larger than any layer.
 */
export async function readLayer(
  bytes: AsyncIterable<Uint8Array>,
  { label, hashing, entry }: { label: string; hashing: boolean; entry: (found: ReadEntry) => void },
): Promise<number> {
  const corrupt = (why: string): HodError =>
    new HodError('archive-corrupt', {
      what: 'a layer cannot be read',
      object: label,
      why,
      next: 'build the image again',
    });
  const reader = new BlockReader(bytes, corrupt);
  const looked = Buffer.alloc(lookedAt);
  let extended: Extended = {};
  for (;;) {
    const block = await reader.block();
    if (block === undefined) {
      return reader.read;
    }
    if (isNull(block)) {
      continue;
    }
    const numbers = tarNumbers(block);
    if (numbers === undefined) {
      throw corrupt('it is no .tar, or something in it is damaged');
    }
    const { size: stored, mode, realSize } = numbers;
    const type = String.fromCharCode(block[156] ?? 0);
    if ('xgLK'.includes(type)) {
      if (stored > extensionLimit) {
        throw corrupt('a name in it is too long');
      }
      const content = await reader.take(stored);
      extended = type === 'g' ? extended : { ...extended, ...extensionOf(type, content) };
      continue;
    }
    // The older form of sparse files of GNU goes on with blocks of its own.
    for (let more = type === 'S' && block[482] !== 0; more;) {
      const next = await reader.block();
      more = next !== undefined && next[504] !== 0;
    }
    const size = extended.size ?? stored;
    const kind = kinds[type] ?? (type === '' ? 'file' : undefined);
    const name = extended.path ?? pathIn(block);
    // Of a sparse file, the holes count too.
    const length = extended.realSize ?? (type === 'S' ? realSize : size);
    const isFolder = name.endsWith('/') && kind === 'file';
    const holds = kind === 'file' && !isFolder;
    const hash = hashing && holds ? createHash('sha256') : undefined;
    const beginning = looked.subarray(0, holds ? Math.min(size, lookedAt) : 0);
    // A name that ends with a slash calls an older kind of file a folder; its content is there all the same.
    await reader.pass(kind === 'folder' ? 0 : size, (piece, at) => {
      hash?.update(piece);
      if (at < beginning.length) {
        beginning.set(piece.subarray(0, beginning.length - at), at);
      }
    });
    if (name.length > pathLimit) {
      throw corrupt(`a path in it has more than ${pathLimit} characters`);
    }
    const link = kind === 'symlink' || kind === 'hardlink' ? (extended.link ?? textIn(block, 157, 100)) : undefined;
    if (link !== undefined && link.length > pathLimit) {
      throw corrupt(`a link in it leads to more than ${pathLimit} characters`);
    }
    extended = {};
    if (kind !== undefined) {
      entry({
        path: nameParts(name).join('/'),
        kind: isFolder ? 'folder' : kind,
        size: holds ? length : 0,
        mode,
        link,
        content: hash?.digest('hex'),
        secret: holds && looksSecret(name, beginning),
        leadsOut: leadsOut(name) || (kind === 'hardlink' && leadsOut(link ?? '')),
      });
    }
  }
}

/** Reads blocks and content out of pieces of any size. */
class BlockReader {
  read = 0;
  private readonly pieces: AsyncIterator<Uint8Array>;
  private piece: Uint8Array = new Uint8Array(0);
  private at = 0;
  private readonly held = Buffer.alloc(blockSize);

  constructor(
    bytes: AsyncIterable<Uint8Array>,
    private readonly corrupt: (why: string) => HodError,
  ) {
    this.pieces = bytes[Symbol.asyncIterator]();
  }

  /** The next block, until the one after is asked for; undefined at the end. */
  async block(): Promise<Buffer | undefined> {
    if (this.piece.length - this.at >= blockSize) {
      const block = Buffer.from(this.piece.buffer, this.piece.byteOffset + this.at, blockSize);
      this.at += blockSize;
      return block;
    }
    let filled = 0;
    while (filled < blockSize) {
      if (!(await this.fill())) {
        if (filled === 0) {
          return undefined;
        }
        throw this.corrupt('it is cut off');
      }
      const part = this.piece.subarray(this.at, this.at + blockSize - filled);
      this.held.set(part, filled);
      filled += part.length;
      this.at += part.length;
    }
    return this.held;
  }

  /** Passes the content of an entry on, and reads what fills up its last block. */
  async pass(size: number, told: (piece: Uint8Array, at: number) => void): Promise<void> {
    const whole = Math.ceil(size / blockSize) * blockSize;
    for (let at = 0; at < whole;) {
      if (!(await this.fill())) {
        throw this.corrupt('it is cut off');
      }
      const part = this.piece.subarray(this.at, this.at + whole - at);
      if (at < size) {
        told(part.subarray(0, size - at), at);
      }
      at += part.length;
      this.at += part.length;
    }
  }

  /** The content of a small entry. */
  async take(size: number): Promise<Buffer> {
    const all = Buffer.alloc(size);
    await this.pass(size, (piece, at) => {
      all.set(piece, at);
    });
    return all;
  }

  /** Has a piece with something left in it. Answers false at the end. */
  private async fill(): Promise<boolean> {
    while (this.at === this.piece.length) {
      const next = await this.pieces.next();
      if (next.done === true) {
        return false;
      }
      this.piece = next.value;
      this.at = 0;
      this.read += next.value.length;
      if (this.read > unpackedLimit) {
        throw this.corrupt(`it unpacks to more than ${unpackedLimit} bytes`);
      }
    }
    return true;
  }
}

function isNull(block: Buffer): boolean {
  return block[0] === 0 && block.every((byte) => byte === 0);
}

/** What extended headers say of the entry after them (POSIX.1-2001 pax, and the older way of GNU). */
interface Extended {
  path?: string;
  link?: string;
  size?: number;
  /** The length of a sparse file, holes and all. */
  realSize?: number;
}

function extensionOf(type: string, content: Buffer): Extended {
  if (type !== 'x') {
    const text = decoded(content.subarray(0, content.indexOf(0) < 0 ? content.length : content.indexOf(0)));
    return type === 'L' ? { path: text } : { link: text };
  }
  const found: Extended = {};
  for (let at = 0; at < content.length;) {
    const space = content.indexOf(0x20, at);
    const length = Number(content.toString('latin1', at, space));
    if (space < 0 || !Number.isInteger(length) || length <= 0) {
      break;
    }
    const record = content.subarray(space + 1, at + length - 1);
    const equals = record.indexOf(0x3d);
    const [key, value] = [record.toString('latin1', 0, equals), record.subarray(equals + 1)];
    switch (key) {
      case 'path':
      case 'GNU.sparse.name':
        found.path = decoded(value);
        break;
      case 'linkpath':
        found.link = decoded(value);
        break;
      case 'GNU.sparse.realsize':
      case 'GNU.sparse.size':
        found.realSize = Math.max(0, Number(value.toString('latin1')) || 0);
        break;
      case 'size':
        found.size = Math.max(0, Number(value.toString('latin1')) || 0);
        break;
    }
    at += length;
  }
  return found;
}

function pathIn(block: Buffer): string {
  const isPosix = block.toString('latin1', 257, 263) === 'ustar\0';
  const prefix = isPosix ? textIn(block, 345, 155) : '';
  const name = textIn(block, 0, 100);
  return prefix === '' ? name : `${prefix}/${name}`;
}

function textIn(block: Buffer, start: number, length: number): string {
  const field = block.subarray(start, start + length);
  const end = field.indexOf(0);
  return decoded(end < 0 ? field : field.subarray(0, end));
}

const utf8 = new TextDecoder('utf-8', { fatal: true, ignoreBOM: true });

/** A name; bytes that are no UTF-8 are written as `\xNN`, so that names that differ stay so. */
function decoded(bytes: Uint8Array): string {
  try {
    return utf8.decode(bytes);
  } catch {
    return [...bytes]
      .map((byte) =>
        byte >= 0x20 && byte < 0x7f ? String.fromCharCode(byte) : `\\x${byte.toString(16).padStart(2, '0')}`,
      )
      .join('');
  }
}
