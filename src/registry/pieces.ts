import type { RegistryRequest } from './http/exchange';
import { TransientError } from './http/retry';

/** A stream of bytes that is read in parts of a given length. */
export class Pieces {
  private rest: Uint8Array | undefined;

  constructor(private readonly bytes: AsyncGenerator<Uint8Array>) {}

  /** The next `length` bytes, or as many as there are. */
  async *take(length: number): AsyncGenerator<Uint8Array> {
    let left = length;
    while (left > 0) {
      const next = this.rest ?? (await this.next());
      if (next === undefined) {
        return;
      }
      const piece = next.subarray(0, left);
      this.rest = piece.length < next.length ? next.subarray(piece.length) : undefined;
      left -= piece.length;
      yield piece;
    }
  }

  /** Passes `length` bytes over, or as many as there are. */
  async skip(length: number): Promise<void> {
    const passed = this.take(length);
    while ((await passed.next()).done !== true);
  }

  /** Ends the reading, and closes what is read. */
  async close(): Promise<void> {
    await this.bytes.return(undefined);
  }

  private async next(): Promise<Uint8Array | undefined> {
    const result = await this.bytes.next();
    return result.done === true ? undefined : result.value;
  }
}

/** A body that cannot be made twice: where it must be sent again, the upload is taken up anew. */
export function onlyOnce(body: NonNullable<RegistryRequest['body']>): NonNullable<RegistryRequest['body']> {
  let used = false;
  return () => {
    if (used) {
      throw new TransientError('upload-lost', {
        what: 'could not upload a blob',
        why: 'the login ran out while it was sent',
        next: 'run the command again',
      });
    }
    used = true;
    return body();
  };
}
