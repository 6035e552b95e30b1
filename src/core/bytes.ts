/** All of a stream of bytes; undefined where it is longer than `limit` bytes, of which no more are read then. */
export async function atMost(limit: number, pieces: AsyncIterable<Uint8Array>): Promise<Uint8Array | undefined> {
  const all: Uint8Array[] = [];
  let size = 0;
  for await (const piece of pieces) {
    size += piece.length;
    if (size > limit) {
      return undefined;
    }
    all.push(new Uint8Array(piece));
  }
  return Buffer.concat(all);
}

/** All of a stream of bytes. */
export async function allBytes(pieces: AsyncIterable<Uint8Array>): Promise<Uint8Array> {
  return (await atMost(Infinity, pieces)) ?? new Uint8Array();
}

/** A stream of bytes that are here already. */
export async function* onePiece(bytes: Uint8Array): AsyncGenerator<Uint8Array> {
  yield await Promise.resolve(bytes);
}

/** A stream of bytes without the first `count` of them. */
export async function* withoutFirst(count: number, pieces: AsyncIterable<Uint8Array>): AsyncGenerator<Uint8Array> {
  let left = count;
  for await (const piece of pieces) {
    const dropped = Math.min(left, piece.length);
    left -= dropped;
    if (dropped < piece.length) {
      yield piece.subarray(dropped);
    }
  }
}
