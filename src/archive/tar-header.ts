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
  const sum = numberIn(block, 148, 8);
  // The sum counts its own field as blanks.
  const all = block.reduce((total, byte, at) => total + (at >= 148 && at < 156 ? 0x20 : byte), 0);
  const size = numberIn(block, 124, 12) ?? 0;
  return sum !== all || size < 0 || !Number.isSafeInteger(size)
    ? undefined
    : { size, mode: (numberIn(block, 100, 8) ?? 0) & 0o7777, realSize: numberIn(block, 483, 12) ?? 0 };
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
