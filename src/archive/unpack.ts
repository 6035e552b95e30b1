import { HodError } from '../core/errors';
import { beginningOf } from './beginnings';
import { gunzipped, unpacking } from './gunzip';
import { unzstd } from './zstd';

/** A layer as a .tar, whether it is plain or compressed with gzip or zstd: its first bytes say which. Throws `corrupt`. */
export async function* unpacked(packed: AsyncIterable<Uint8Array>, label: string): AsyncGenerator<Uint8Array> {
  const pieces = packed[Symbol.asyncIterator]();
  const first = await pieces.next();
  if (first.done === true) {
    return;
  }
  const all = joined(first.value, pieces);
  const beginning = beginningOf(Buffer.from(first.value.subarray(0, 16)));
  switch (beginning?.kind) {
    case 'gzip':
      yield* gunzipped(all, label);
      return;
    case 'zstd':
      yield* unpacking('zstd', unzstd(all), label);
      return;
    case 'other':
      throw new HodError('archive-corrupt', {
        what: 'a layer cannot be read',
        object: label,
        why: `${beginning.says}; layers are plain, or compressed with gzip or zstd`,
        next: 'build the image again',
      });
    default:
      yield* all;
  }
}

async function* joined(first: Uint8Array, rest: AsyncIterator<Uint8Array>): AsyncGenerator<Uint8Array> {
  try {
    yield first;
    for (let next = await rest.next(); next.done !== true; next = await rest.next()) {
      yield next.value;
    }
  } finally {
    await rest.return?.();
  }
}
