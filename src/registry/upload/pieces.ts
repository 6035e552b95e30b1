import { Readable } from 'node:stream';
import type { RegistryRequest } from '../../http/exchange';
import { TransientError } from '../../http/retry';

/** A stream of bytes that is read in parts of a given length. */
export class Pieces {
  private rest: Uint8Array | undefined;

  constructor(private readonly bytes: AsyncGenerator<Uint8Array>) {}

  /**
   * The next `length` bytes, or as many as there are, as the body of a request. No piece is asked for before
   * the one before it was written: the buffer that it was in may be used again by then.
   *
   * @param told Told of bytes as they are written.
   */
  body(length: number, told: (bytes: number) => void): Readable {
    let left = length;
    const next = async (): Promise<Uint8Array | null> => {
      const piece = left === 0 ? undefined : await this.next(left);
      left -= piece?.length ?? 0;
      told(piece?.length ?? 0);
      return piece ?? null;
    };
    return new Readable({
      highWaterMark: 0,
      read() {
        next().then(
          (piece) => this.push(piece),
          (error: unknown) => this.destroy(error instanceof Error ? error : new Error(String(error))),
        );
      },
    });
  }

  /** Passes `length` bytes over, or as many as there are. */
  async skip(length: number): Promise<void> {
    for (let left = length; left > 0;) {
      const piece = await this.next(left);
      if (piece === undefined) {
        return;
      }
      left -= piece.length;
    }
  }

  /** Ends the reading, and closes what is read. */
  async close(): Promise<void> {
    await this.bytes.return(undefined);
  }

  /** The next bytes, at most so many; undefined where there are no more. */
  private async next(most: number): Promise<Uint8Array | undefined> {
    const found = this.rest ?? (await this.read());
    this.rest = found !== undefined && found.length > most ? found.subarray(most) : undefined;
    return found?.subarray(0, most);
  }

  private async read(): Promise<Uint8Array | undefined> {
    for (;;) {
      const result = await this.bytes.next();
      if (result.done === true || result.value.length > 0) {
        return result.done === true ? undefined : result.value;
      }
    }
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
