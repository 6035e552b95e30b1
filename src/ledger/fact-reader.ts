import { emptyHead } from '../core/ledger/entry';
import { factName, Facts, stateKey, type FactKey } from '../core/ledger/facts';
import { Knowledge, type Judgement } from '../core/release/knowledge';
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
  decide: (known: Knowledge) => Judgement<T>,
): Promise<T> {
  return (await decideFrom(ledger, decide, 'known')).value;
}

/** The same as of a moment, with the head and the facts that it was decided on. */
export async function decideFrom<T>(
  ledger: Pick<Ledger, 'read'>,
  decide: (known: Knowledge) => Judgement<T>,
  moment: Moment,
): Promise<LedgerState & { readonly value: T }> {
  const known = new Knowledge();
  const reader = new FactReader(ledger, [stateKey]);
  for (let asked = moment; ; asked = 'known') {
    const decision = decide(known);
    if (decision.kind === 'decided') {
      return { value: decision.value, head: known.head, facts: known.facts };
    }
    const needs = decision.kind === 'needs' ? decision.needs : [];
    const facts = needs.flatMap((need) => (need.kind === 'fact' ? [need.fact] : []));
    if (facts.length === 0) {
      throw new Error('a question to a ledger is decided by more than its facts');
    }
    const { head, facts: found } = await reader.read(facts, asked);
    known.head = head;
    known.facts = found;
  }
}
