import { HodError, messageOf } from '../core/errors';
import { openPlainFile } from '../system/plain-files';

/**
 * A log of a day is smaller; the wait for a larger one is long.
 * @limit a text for `hod identify` | bytes | `file-unusable`
 */
const longestText = 100 * 1024 * 1024;
/** How much of it is read at a time. */
const pieceSize = 64 * 1024;

/** Whether something is the path of a plain file. */
export async function isTextFile(path: string): Promise<boolean> {
  try {
    const { handle } = await openPlainFile(path);
    await handle.close();
    return true;
  } catch {
    return false;
  }
}

/**
 * Reads a text in pieces: a file, or `-` for standard input. Bytes that are no text stay what they are, so that nothing in a log
 * keeps the rest from being read; what shells of Windows write in UTF-16 is read as that.
 *
 * @throws {@link HodError} `file-unusable`
 */
export async function readGivenText(path: string, take: (piece: string) => void): Promise<void> {
  let size = 0;
  let decoder: ((piece: Buffer) => string) | undefined;
  for await (const piece of path === '-' ? standardInput() : fileOf(path)) {
    size += piece.length;
    if (size > longestText) {
      throw unusable(
        path,
        `it has more than ${longestText} bytes`,
        'cut it into parts, or leave out what names no image',
      );
    }
    decoder ??= decoderFor(piece);
    take(decoder(piece));
  }
}

/** What is looked for is ASCII: bytes stand for themselves, unless the text says that it is UTF-16. */
function decoderFor(beginning: Buffer): (piece: Buffer) => string {
  // Who marks a text as UTF-16 that is none would hide all of it: every other byte of ASCII is zero there.
  const others = beginning.subarray(2, 258).filter((_, at) => at % 2 === 1);
  const isWide =
    beginning[0] === 0xff && beginning[1] === 0xfe && others.filter((byte) => byte === 0).length > others.length / 2;
  if (!isWide) {
    return (piece) => piece.toString('latin1');
  }
  const decoder = new TextDecoder('utf-16le');
  return (piece) => decoder.decode(piece, { stream: true });
}

async function* standardInput(): AsyncGenerator<Buffer> {
  if (process.stdin.isTTY) {
    throw unusable('-', 'nothing is piped in', 'pipe a text in, or name a file');
  }
  for await (const piece of process.stdin) {
    yield Buffer.from(piece);
  }
}

async function* fileOf(path: string): AsyncGenerator<Buffer> {
  let handle;
  try {
    ({ handle } = await openPlainFile(path));
  } catch (error) {
    throw unusable(path, messageOf(error), 'name a file that can be read');
  }
  yield* handle.createReadStream({ highWaterMark: pieceSize }) as AsyncIterable<Buffer>;
}

function unusable(object: string, why: string, next: string): HodError {
  return new HodError('file-unusable', { what: 'this text cannot be read', object, why, next });
}
