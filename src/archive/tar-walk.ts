import type { HodError } from '../core/errors';
import type { MemberKind } from '../core/oci/layer-tree';
import type { OpenFile } from './files';
import { blockSize, decodedName, extensionOf, pathIn, tarNumbers, textIn, type Extended } from './tar-header';

/**
 * An extended header holds names, not content.
 * @limit an extended header of a tar archive | bytes | `archive-corrupt`
 */
const extensionLimit = 1024 * 1024;

/** What is in an archive in the way of a file, of that size; or what its type stands for. */
const kinds: Readonly<Record<string, MemberKind>> = {
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

/** A .tar as it is walked: block by block, and by the content of its members. */
export interface TarBlocks {
  /** How many bytes stand before what is read next. */
  readonly at: number;
  /** The next block, until the one after is asked for; undefined at the end. */
  block(): Promise<Buffer | undefined>;
  /** Passes the content of a member on, or leaves it out where nobody is told, with what fills up its last block. */
  pass(size: number, told?: (piece: Uint8Array, at: number) => void): Promise<void>;
}

/** The error for an archive that is not as it should be. */
export type TarCorrupt = (why: string) => HodError;

/** A member of a .tar. */
export interface TarMember {
  /** As it stands there. */
  readonly path: string;
  /** Undefined for what no known kind is. */
  readonly kind: MemberKind | undefined;
  /** Permissions, set-uid and the like. */
  readonly mode: number;
  /** What a link leads to, as it stands there. */
  readonly link: string | undefined;
  /** Bytes of content in the archive, and of the file, holes and all. */
  readonly stored: number;
  readonly size: number;
}

/**
 * Walks the members of a .tar (POSIX.1-2001 pax and ustar, and the older way of GNU). Does work on each where its content
 * begins; the work passes the content.
 *
 * @throws What `corrupt` makes of an archive that is none, or is damaged.
 */
export async function walkTar(
  blocks: TarBlocks,
  corrupt: TarCorrupt,
  work: (member: TarMember) => Promise<void>,
): Promise<void> {
  let extended: Extended = {};
  for (let block = await blocks.block(); block !== undefined; block = await blocks.block()) {
    if (isNull(block)) {
      continue;
    }
    const numbers = tarNumbers(block);
    if (numbers === undefined) {
      throw corrupt(`no header at byte ${blocks.at - blockSize}: it is no .tar, or something in it is damaged`);
    }
    const type = String.fromCharCode(block[156] ?? 0);
    if ('xXgLK'.includes(type)) {
      const content = await takeExtension(blocks, numbers.size, corrupt);
      extended = type === 'g' ? extended : { ...extended, ...extensionOf(type, content) };
      continue;
    }
    const member = memberOf(block, type, numbers, extended);
    extended = {};
    // The older form of sparse files of GNU goes on with blocks of its own.
    for (let more = type === 'S' && block[482] !== 0; more;) {
      const next = await blocks.block();
      more = next !== undefined && next[504] !== 0;
    }
    await work(member);
  }
}

async function takeExtension(blocks: TarBlocks, size: number, corrupt: TarCorrupt): Promise<Buffer> {
  if (size > extensionLimit) {
    throw corrupt('a name in it is too long');
  }
  const all = Buffer.alloc(size);
  await blocks.pass(size, (piece, at) => {
    all.set(piece, at);
  });
  return all;
}

function memberOf(
  block: Buffer,
  type: string,
  { size: told, mode, realSize }: NonNullable<ReturnType<typeof tarNumbers>>,
  extended: Extended,
): TarMember {
  const size = extended.size ?? told;
  const path = extended.path ?? pathIn(block);
  const kind = kinds[type];
  const isLink = kind === 'symlink' || kind === 'hardlink';
  return {
    path,
    // A name that ends with a slash calls an older kind of file a folder; its content is there all the same.
    kind: kind === 'file' && path.endsWith('/') ? 'folder' : kind,
    mode,
    link: isLink ? (extended.link ?? decodedName(textIn(block, 157, 100))) : undefined,
    stored: kind === 'folder' ? 0 : size,
    // Of a sparse file, the holes count too.
    size: extended.realSize ?? (type === 'S' ? realSize : size),
  };
}

function isNull(block: Buffer): boolean {
  return block[0] === 0 && block.every((byte) => byte === 0);
}

/** A .tar in pieces of any size, of which at most `limit` bytes are read. */
export class StreamBlocks implements TarBlocks {
  at = 0;
  private readonly pieces: AsyncIterator<Uint8Array>;
  private piece: Uint8Array = new Uint8Array(0);
  private used = 0;
  private read = 0;
  private readonly whole = Buffer.alloc(blockSize);

  constructor(
    bytes: AsyncIterable<Uint8Array>,
    private readonly corrupt: TarCorrupt,
    private readonly limit: number,
  ) {
    this.pieces = bytes[Symbol.asyncIterator]();
  }

  /** How many bytes there were so far. */
  get length(): number {
    return this.read;
  }

  async block(): Promise<Buffer | undefined> {
    if (this.piece.length - this.used >= blockSize) {
      const block = Buffer.from(this.piece.buffer, this.piece.byteOffset + this.used, blockSize);
      this.advance(blockSize);
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
      const part = this.piece.subarray(this.used, this.used + blockSize - filled);
      this.whole.set(part, filled);
      filled += part.length;
      this.advance(part.length);
    }
    return this.whole;
  }

  async pass(size: number, told?: (piece: Uint8Array, at: number) => void): Promise<void> {
    let at = 0;
    for await (const piece of size === 0 ? [] : this.content(size)) {
      told?.(piece, at);
      at += piece.length;
    }
  }

  /** The content of a member, piece by piece; with the last of them, what fills up its last block is passed. */
  async *content(size: number): AsyncGenerator<Uint8Array> {
    const whole = Math.ceil(size / blockSize) * blockSize;
    for (let at = 0; at < whole;) {
      if (!(await this.fill())) {
        throw this.corrupt('it is cut off');
      }
      const part = this.piece.subarray(this.used, this.used + whole - at);
      if (at < size) {
        yield part.subarray(0, size - at);
      }
      at += part.length;
      this.advance(part.length);
    }
  }

  private advance(length: number): void {
    this.used += length;
    this.at += length;
  }

  /** Has a piece with something left in it. Answers false at the end. */
  private async fill(): Promise<boolean> {
    while (this.used === this.piece.length) {
      const next = await this.pieces.next();
      if (next.done === true) {
        return false;
      }
      this.piece = next.value;
      this.used = 0;
      this.read += next.value.length;
      if (this.read > this.limit) {
        throw this.corrupt(`it unpacks to more than ${this.limit} bytes`);
      }
    }
    return true;
  }
}

/** A .tar that is a file: what nobody is told of is not read. */
export class FileBlocks implements TarBlocks {
  at = 0;

  constructor(
    private readonly file: OpenFile,
    private readonly corrupt: TarCorrupt,
  ) {}

  async block(): Promise<Buffer | undefined> {
    if (this.at === this.file.length) {
      return undefined;
    }
    // Within a header, or within what fills up the last block of a member: the same as where it is read as a stream.
    if (this.at + blockSize > this.file.length) {
      throw this.corrupt('it is cut off');
    }
    return this.take(blockSize);
  }

  async pass(size: number, told?: (piece: Uint8Array, at: number) => void): Promise<void> {
    const end = this.at + Math.ceil(size / blockSize) * blockSize;
    if (this.at + size > this.file.length) {
      throw this.corrupt('it is cut off');
    }
    if (told !== undefined && size > 0) {
      told(await this.take(size), 0);
    }
    this.at = end;
  }

  private async take(length: number): Promise<Buffer> {
    const buffer = Buffer.alloc(length);
    if ((await this.file.read(buffer, length, this.at)) < length) {
      throw this.corrupt('it is cut off');
    }
    this.at += length;
    return buffer;
  }
}
