/** Bytes of a block of a .tar. */
export const blockSize = 512;

/** The fields of a block that begins an entry of a .tar (POSIX.1-1988 ustar), as far as they are numbers. */
export interface TarNumbers {
  /** Bytes of content, as the block says. */
  readonly size: number;
  /** Permissions, set-uid and the like. */
  readonly mode: number;
  /** The length of a sparse file of GNU, holes and all. */
  readonly realSize: number;
}

/**
 * Reads the numbers of a block; undefined where its sum does not hold. What a name ends with says nothing here: a longer
 * one may stand in a block before.
 */
export function tarNumbers(block: Buffer): TarNumbers | undefined {
  const size = numberIn(block, 124, 12) ?? 0;
  return !hasSum(block) || size < 0 || !Number.isSafeInteger(size)
    ? undefined
    : { size, mode: (numberIn(block, 100, 8) ?? 0) & 0o7777, realSize: numberIn(block, 483, 12) ?? 0 };
}

/** Whether the sum of a block holds. */
function hasSum(block: Buffer): boolean {
  // The sum counts its own field as blanks.
  const all = block.reduce((total, byte, at) => total + (at >= 148 && at < 156 ? 0x20 : byte), 0);
  return numberIn(block, 148, 8) === all;
}

/** Whether the first block of a file is that of a .tar: its sum holds, or it is the end of an archive without members. */
export function beginsTar(block: Buffer): boolean {
  return block.length >= blockSize && (hasSum(block) || block.every((byte) => byte === 0));
}

/** A number in octal digits, or in bytes where its first bit is set (GNU); undefined where it is none. */
function numberIn(block: Buffer, start: number, length: number): number | undefined {
  const field = block.subarray(start, start + length);
  const first = field[0] ?? 0;
  if ((first & 0x80) !== 0) {
    return first === 0x80 ? field.subarray(1).reduce((number, byte) => number * 256 + byte, 0) : NaN;
  }
  const text = field
    .toString('latin1')
    .replace(/[\0 ]*$/, '')
    .trim();
  const digits = /^[0-7]+/.exec(text.replace(/\0.*$/s, ''))?.[0];
  return digits === undefined ? undefined : Number.parseInt(digits, 8);
}

/** What extended headers say of the entry after them (POSIX.1-2001 pax, and the older way of GNU). */
export interface Extended {
  path?: string;
  link?: string;
  size?: number;
  /** The length of a sparse file, holes and all. */
  realSize?: number;
}

/** Reads what an extended header says. */
export function extensionOf(type: string, content: Buffer): Extended {
  if (type === 'L' || type === 'K') {
    const text = decodedName(textIn(content, 0, content.length));
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
        found.path = decodedName(value);
        break;
      case 'linkpath':
        found.link = decodedName(value);
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

/** The path that a block names. */
export function pathIn(block: Buffer): string {
  const isPosix = block.toString('latin1', 257, 263) === 'ustar\0';
  const prefix = isPosix ? decodedName(textIn(block, 345, 155)) : '';
  const name = decodedName(textIn(block, 0, 100));
  return prefix === '' ? name : `${prefix}/${name}`;
}

/** The bytes of a field up to the first null. */
export function textIn(block: Buffer, start: number, length: number): Buffer {
  const field = block.subarray(start, start + length);
  const end = field.indexOf(0);
  return end < 0 ? field : field.subarray(0, end);
}

const utf8 = new TextDecoder('utf-8', { fatal: true, ignoreBOM: true });

/** A name; bytes that are no UTF-8 are written as `\xNN`, so that names that differ stay so. */
export function decodedName(bytes: Uint8Array): string {
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
