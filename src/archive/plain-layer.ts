import { HodError } from '../core/errors';
import { digestHasher, type Digest } from '../core/oci/digest';

/** A layer that is a plain .tar, or was unpacked to one. */
export interface PlainLayer {
  /** How people name it, for messages. */
  readonly label: string;
  /** The digest of its bytes. */
  readonly diffId: Digest;
  open(): AsyncIterable<Uint8Array>;
}

/** The bytes of a plain layer. Throws `corrupt`, at their end, where they are not what its diff ID says. */
export async function* hashed(layer: PlainLayer): AsyncGenerator<Uint8Array> {
  const { label, diffId } = layer;
  const hasher = digestHasher(diffId);
  for await (const piece of layer.open()) {
    hasher.update(piece);
    yield piece;
  }
  const digest = hasher.digest();
  if (digest !== diffId) {
    throw new HodError('content-corrupt', {
      what: 'a layer is not what the config of its image says',
      object: label,
      why: `its bytes have the digest ${digest}, and the config names ${diffId}`,
      next: 'build the image again, or write the archive again; nothing was tagged',
    });
  }
}
