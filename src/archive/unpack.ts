import { HodError } from '../core/errors';
import { beginningOf } from './beginnings';
import { gunzipped, unpacking } from './gunzip';
import { unzstd } from './zstd';

/** More bytes than any kind needs to be told by. */
const longestBeginning = 16;

/** A layer or an archive as a .tar, whether it is plain or compressed with gzip or zstd: its first bytes say which. Throws `corrupt`. */
export async function* unpacked(packed: AsyncIterable<Uint8Array>, label: string): AsyncGenerator<Uint8Array> {
  const pieces = packed[Symbol.asyncIterator]();
  // A pipe may come byte by byte.
  let first: Uint8Array = new Uint8Array();
  for (let next = await pieces.next(); next.done !== true; next = await pieces.next()) {
    first = first.length === 0 ? next.value : Buffer.concat([first, next.value]);
    if (first.length >= longestBeginning) {
      break;
    }
  }
  const all = joined(first, pieces);
  const beginning = beginningOf(Buffer.from(first.subarray(0, longestBeginning)));
  switch (beginning?.kind) {
    case 'gzip':
      yield* gunzipped(all, label);
      return;
    case 'zstd':
      yield* unpacking('zstd', unzstd(all), label);
      return;
    case 'other':
      throw new HodError('archive-corrupt', {
        what: 'this compression is not understood',
        object: label,
        why: `${beginning.says}; Hod reads gzip, zstd, and what is not compressed`,
        next: 'build the image again, with one of these',
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
