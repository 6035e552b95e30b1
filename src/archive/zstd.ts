/**
 * Unpacks Zstandard (RFC 8878), a block at a time: each holds at most 128 KiB, whatever it is made of, so that what unpacks
 * to a great deal is passed on as it comes. The package that decodes would unpack all that it is given at once.
 */

/**
 * The format allows no larger block (RFC 8878, section 3.1.1.2.4).
 * @limit a block of Zstandard, unpacked | bytes | `archive-corrupt`
 */
const blockLimit = 128 * 1024;
/**
 * No usual level of compression needs more; a larger window is memory alone.
 * @limit a window of Zstandard | bytes | `archive-corrupt`
 */
const windowLimit = 128 * 1024 ** 2;
const [frameMagic, skippableMagic] = [0xfd2fb528, 0x184d2a50];

/** @throws Error where it is no Zstandard, is cut off, or asks for a window of more than 128 MiB. */
export async function* unzstd(packed: AsyncIterable<Uint8Array>): AsyncGenerator<Uint8Array> {
  const { Decompress } = await import('fzstd');
  const source = new Source(packed);
  // One buffer for every block: the package keeps an empty view of each that it was given, and with the view its memory.
  const block = Buffer.alloc(3 + blockLimit + 4);
  const magic = Buffer.alloc(4);
  while (await source.begin(magic)) {
    const number = magic.readUInt32LE();
    if ((number & 0xfffffff0) >>> 0 === skippableMagic) {
      await source.skip((await source.take(4)).readUInt32LE());
      continue;
    }
    if (number !== frameMagic) {
      throw new Error('it is not what Zstandard begins with');
    }
    const ready: Uint8Array[] = [];
    const decompress = new Decompress((piece) => {
      ready.push(piece);
    });
    const { header, hasChecksum } = await frameHeader(source);
    decompress.push(Buffer.concat([magic, header]));
    for (let isLast = false; !isLast;) {
      await source.fill(block.subarray(0, 3));
      const bits = block.readUIntLE(0, 3);
      const [kind, size] = [(bits >> 1) & 3, bits >>> 3];
      isLast = (bits & 1) === 1;
      if (kind === 3 || size > blockLimit) {
        throw new Error('a block in it is damaged');
      }
      const end = 3 + (kind === 1 ? 1 : size) + (isLast && hasChecksum ? 4 : 0);
      await source.fill(block.subarray(3, end));
      decompress.push(block.subarray(0, end), isLast);
      yield* ready.splice(0);
    }
  }
}

/** Reads the rest of the header of a frame (section 3.1.1.1). */
async function frameHeader(source: Source): Promise<{ header: Buffer; hasChecksum: boolean }> {
  const descriptor = await source.take(1);
  const bits = descriptor.readUInt8();
  const isSingle = (bits & 0x20) !== 0;
  const sizeBytes = [isSingle ? 1 : 0, 2, 4, 8][bits >> 6] ?? 0;
  const window = await source.take(isSingle ? 0 : 1);
  const dictionary = await source.take([0, 1, 2, 4][bits & 3] ?? 0);
  const size = await source.take(sizeBytes);
  const asked = isSingle ? contentSize(size) : windowSize(window.readUInt8());
  if (asked > windowLimit) {
    throw new Error(`it asks for a window of ${asked} bytes, and at most ${windowLimit} are given`);
  }
  return { header: Buffer.concat([descriptor, window, dictionary, size]), hasChecksum: (bits & 4) !== 0 };
}

function windowSize(descriptor: number): number {
  const base = 2 ** (10 + (descriptor >> 3));
  return base + (base / 8) * (descriptor & 7);
}

function contentSize(field: Buffer): number {
  switch (field.length) {
    case 8:
      return Number(field.readBigUInt64LE());
    case 2:
      return field.readUInt16LE() + 256;
    default:
      return field.readUIntLE(0, field.length);
  }
}

/** Takes bytes out of pieces of any size. */
class Source {
  private readonly pieces: AsyncIterator<Uint8Array>;
  private piece: Buffer = Buffer.alloc(0);

  constructor(packed: AsyncIterable<Uint8Array>) {
    this.pieces = packed[Symbol.asyncIterator]();
  }

  /** So many bytes. Throws at the end. */
  async take(length: number): Promise<Buffer> {
    const taken = Buffer.alloc(length);
    await this.fill(taken);
    return taken;
  }

  /** Fills what is given; says false where nothing is left. */
  async begin(target: Buffer): Promise<boolean> {
    if (!(await this.hasMore())) {
      return false;
    }
    await this.fill(target);
    return true;
  }

  /** Fills what is given. Throws at the end. */
  async fill(target: Buffer): Promise<void> {
    let filled = 0;
    await this.pass(target.length, (part) => {
      filled += part.copy(target, filled);
    });
  }

  async skip(length: number): Promise<void> {
    await this.pass(length);
  }

  /** Passes over so many bytes, and shows them: each piece is valid only in the call. */
  private async pass(length: number, show?: (part: Buffer) => void): Promise<void> {
    for (let lacking = length; lacking > 0;) {
      if (!(await this.hasMore())) {
        throw new Error('it is cut off');
      }
      const part = this.piece.subarray(0, lacking);
      show?.(part);
      lacking -= part.length;
      this.piece = this.piece.subarray(part.length);
    }
  }

  private async hasMore(): Promise<boolean> {
    while (this.piece.length === 0) {
      const next = await this.pieces.next();
      if (next.done === true) {
        return false;
      }
      this.piece = Buffer.from(next.value.buffer, next.value.byteOffset, next.value.length);
    }
    return true;
  }
}
