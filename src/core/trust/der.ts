/** One element of a DER document (ITU-T X.690 §8.1). */
export interface DerElement {
  readonly tag: number;
  readonly content: Uint8Array;
}

/**
 * Returns the elements that stand one after the other in some bytes; undefined where they are not DER. Lengths of more than
 * four bytes are not read: no certificate has them.
 */
export function readDer(bytes: Uint8Array): DerElement[] | undefined {
  const elements: DerElement[] = [];
  for (let at = 0; at < bytes.length;) {
    const [tag, first] = [bytes[at], bytes[at + 1]];
    if (tag === undefined || first === undefined || (tag & 0x1f) === 0x1f) {
      return undefined;
    }
    const more = first < 0x80 ? 0 : first & 0x7f;
    if (first === 0x80 || more > 4) {
      return undefined;
    }
    const start = at + 2 + more;
    const length = more === 0 ? first : bytes.subarray(at + 2, start).reduce((sum, byte) => sum * 256 + byte, 0);
    if (start + length > bytes.length) {
      return undefined;
    }
    elements.push({ tag, content: bytes.subarray(start, start + length) });
    at = start + length;
  }
  return elements;
}

/** Returns an object identifier as people write it: `2.5.29.19` (ITU-T X.690 §8.19). */
export function readOid(content: Uint8Array): string {
  const parts: number[] = [];
  let value = 0;
  for (const byte of content) {
    value = value * 128 + (byte & 0x7f);
    if (byte < 0x80) {
      parts.push(value);
      value = 0;
    }
  }
  const [first = 0, ...others] = parts;
  const top = Math.min(2, Math.floor(first / 40));
  return [top, first - top * 40, ...others].join('.');
}
