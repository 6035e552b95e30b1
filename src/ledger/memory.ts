import {
  emptyHead,
  foldInto,
  headAfter,
  type After,
  type CompactedEntry,
  type Head,
  type SealedEntry,
} from '../core/ledger/entry';
import { factName, Facts, stateKey, type FactKey, type SetFact } from '../core/ledger/facts';
import {
  sameEngine,
  type Ledger,
  type LedgerAppend,
  type LedgerContent,
  type LedgerState,
  type NeighbourLedger,
} from './ledger';

/** A ledger in memory: for what is tried before it is written, and for tests. */
export class MemoryLedger implements Ledger {
  /** All facts, as of now. */
  readonly facts = new Facts();
  sealed: SealedEntry[] = [];
  readonly place = 'memory';
  private moved: readonly CompactedEntry[] = [];
  head: Head = emptyHead;
  /** The ledgers of other products. */
  readonly others: NeighbourLedger[] = [];
  /** The same facts by their names. */
  private readonly stored = new Map<string, SetFact>();

  read(keys: readonly FactKey[]): Promise<LedgerState> {
    const asked = [stateKey, ...keys];
    const facts = new Facts(asked);
    for (const key of asked) {
      const stored = this.stored.get(factName(key));
      if (stored !== undefined) {
        facts.load(key, stored.text);
      }
    }
    return Promise.resolve({ head: this.head, facts });
  }

  append(
    entries: readonly SealedEntry[],
    expected: Head,
    compacted: readonly number[] = [],
  ): Promise<number | undefined> {
    if (expected.seq !== this.head.seq || expected.hash !== this.head.hash) {
      return Promise.resolve(undefined);
    }
    entries.forEach((sealed) => this.add(sealed));
    const gone = new Set(compacted);
    const moved = this.sealed.filter(({ entry }) => gone.has(entry.seq));
    this.sealed = this.sealed.filter(({ entry }) => !gone.has(entry.seq));
    this.moved = [...this.moved, ...moved.map(({ entry: { seq }, hash }) => ({ seq, hash }))].sort(
      (a, b) => a.seq - b.seq,
    );
    return Promise.resolve(0);
  }

  appendTogether(appends: readonly LedgerAppend[]): Promise<number | undefined> {
    const all = appends.map(({ ledger, ...rest }) => ({ ...rest, ledger: sameEngine(ledger, MemoryLedger) }));
    const follows = all.every(
      ({ ledger: { head }, expected }) => expected.seq === head.seq && expected.hash === head.hash,
    );
    if (!follows) {
      return Promise.resolve(undefined);
    }
    all.forEach(({ ledger, entries }) => entries.forEach((sealed) => ledger.add(sealed)));
    return Promise.resolve(0);
  }

  /** Adds the entry that comes next. */
  add(sealed: SealedEntry): void {
    const { seq } = sealed.entry;
    foldInto(this.facts, sealed.entry).forEach((fact) => this.stored.set(factName(fact.key), { ...fact, seq }));
    this.sealed.push(sealed);
    this.head = headAfter(sealed);
  }

  mayAppend(): Promise<void> {
    return Promise.resolve();
  }

  entries(after: After = emptyHead): AsyncIterable<SealedEntry> {
    return inTurn(this.sealed.filter(({ entry }) => entry.seq > after.seq));
  }

  snapshot<T>(work: (content: LedgerContent) => Promise<T>): Promise<T> {
    const [sealed, facts, moved] = [[...this.sealed], [...this.stored.values()], this.moved];
    return work({
      entries: (after: After = emptyHead) => inTurn(sealed.filter(({ entry }) => entry.seq > after.seq)),
      compacted: () => inTurn(moved),
      facts: () => inTurn(facts),
    });
  }

  neighbours(): Promise<readonly NeighbourLedger[]> {
    return Promise.resolve(this.others);
  }

  close(): Promise<void> {
    return Promise.resolve();
  }
}

async function* inTurn<T>(items: readonly T[]): AsyncGenerator<T> {
  yield* await Promise.resolve(items);
}
