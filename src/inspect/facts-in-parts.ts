import type { FactKey, Facts } from '../core/ledger/facts';
import type { Ledger } from '../ledger/ledger';

/** So many things are asked about at once: what the facts of more would take is not held in memory. */
const atOnce = 500;

/** Reads the facts about many things, part by part. `take` keeps what it needs of them. */
export async function readInParts<T>(
  all: readonly T[],
  keysOf: (part: readonly T[]) => readonly FactKey[],
  ledger: Pick<Ledger, 'read'>,
  take: (part: readonly T[], facts: Facts) => void,
): Promise<void> {
  for (let from = 0; from < all.length; from += atOnce) {
    const part = all.slice(from, from + atOnce);
    take(part, (await ledger.read(keysOf(part), 'known')).facts);
  }
}
