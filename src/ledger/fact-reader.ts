import { emptyHead } from '../core/ledger/entry';
import { factName, Facts, type FactKey } from '../core/ledger/facts';
import { Knowledge, type Decision } from '../core/release/knowledge';
import type { Ledger, LedgerState, Moment } from './ledger';

/** Reads facts of a ledger, more and more of them, and each once as long as the ledger stays the same. */
export class FactReader {
  private readonly keys = new Map<string, FactKey>();
  private state: LedgerState = { head: emptyHead, facts: new Facts([]) };

  /** @param keys Facts that are read with those that are asked for first. */
  constructor(
    private readonly ledger: Pick<Ledger, 'read'>,
    keys: readonly FactKey[] = [],
  ) {
    keys.forEach((key) => this.keys.set(factName(key), key));
  }

  /**
   * Reads some more facts, and returns them with those that were read before. All are of one moment: where the head is another than
   * before, those that are known are read again.
   */
  async read(more: readonly FactKey[], moment: Moment): Promise<LedgerState> {
    more.forEach((key) => this.keys.set(factName(key), key));
    const all = [...this.keys.values()];
    const unread = all.filter((key) => !this.state.facts.has(key));
    const found = await this.ledger.read(unread, moment);
    if (unread.length === all.length) {
      this.state = found;
    } else if (found.head.hash === this.state.head.hash) {
      this.state.facts.add(found.facts);
    } else {
      this.state = await this.ledger.read(all, moment);
    }
    return this.state;
  }
}

/** Answers a question that facts alone decide, by the ledger as it was found when it was last read. */
export async function answerFrom<T>(
  ledger: Pick<Ledger, 'read'>,
  decide: (known: Knowledge) => Decision<T>,
): Promise<T> {
  const known = new Knowledge();
  const reader = new FactReader(ledger);
  for (;;) {
    const decision = decide(known);
    if (decision.kind === 'decided') {
      return decision.value;
    }
    const needs = decision.kind === 'needs' ? decision.needs : [];
    const facts = needs.flatMap((need) => (need.kind === 'fact' ? [need.fact] : []));
    if (facts.length === 0) {
      throw new Error('a question to a ledger is decided by more than its facts');
    }
    known.facts = (await reader.read(facts, 'known')).facts;
  }
}
