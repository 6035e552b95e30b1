import { stateKey, type FactCounts } from '../core/ledger/facts';
import type { LedgerState } from './ledger';
import { factsCorrupt } from './problems';

/**
 * Checks that facts are as new as the head that they were read with, and that none of those that are counted is missing:
 * an older table that was put back, and a fact that was deleted, would let something in.
 *
 * @param counts How many facts of some kinds there are.
 * @throws `ledger-facts-corrupt`
 */
export function checkState(
  { head, facts }: LedgerState,
  counts: ReadonlyMap<keyof FactCounts, number> = new Map(),
): void {
  const state = facts.get('state', stateKey.key);
  if ((state?.seq ?? 0) !== head.seq) {
    throw factsCorrupt(
      `the facts as of entry ${state?.seq ?? 0}`,
      `the last entry is ${head.seq}: they are older, or newer, than the entries beside them`,
    );
  }
  for (const [kind, count] of counts) {
    const expected = state?.counts[kind] ?? 0;
    if (count !== expected) {
      throw factsCorrupt(
        `the facts of the kind ${kind}`,
        `the entries set ${expected} of them, and ${count} are there`,
      );
    }
  }
}
