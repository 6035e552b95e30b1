import { pipeline } from 'node:stream';
import { createGunzip } from 'node:zlib';
import { HodError, messageOf } from '../core/errors';

/** Bytes that are unpacked at a time: each piece has a price of its own. */
const pieceSize = 256 * 1024;

/** Unpacks what is compressed with gzip (RFC 1952), as it arrives. Throws `corrupt`, naming `label`. */
export async function* gunzipped(zipped: AsyncIterable<Uint8Array>, label: string): AsyncGenerator<Uint8Array> {
  const gunzip = createGunzip({ chunkSize: pieceSize });
  // What goes wrong on either side ends the other, and is thrown where the bytes are read.
  pipeline(zipped, gunzip, () => undefined);
  yield* unpacking('gzip', gunzip, label);
}

/** Passes on what is unpacked. Throws `corrupt` for what the package that does it says. */
export async function* unpacking(
  form: string,
  pieces: AsyncIterable<Uint8Array>,
  label: string,
): AsyncGenerator<Uint8Array> {
  try {
    yield* pieces;
  } catch (error) {
    if (error instanceof HodError) {
      throw error;
    }
    throw new HodError(
      'archive-corrupt',
      {
        what: `what is compressed with ${form} cannot be unpacked`,
        object: label,
        why: messageOf(error),
        next: 'write it again; nothing was tagged',
      },
      { cause: error },
    );
  }
}
