import type { Entry, Head } from '../core/release/entry';
import type { FactKey, Facts } from '../core/release/facts';

/** What a reader gets: the head and the facts as of one moment. */
export interface LedgerState {
  head: Head;
  facts: Facts;
}

/** The ledger of one product: an append-only sequence of entries and the facts that they add up to. */
export interface Ledger {
  /** The head, and those of the named facts that are set, as of one moment. */
  read(keys: readonly FactKey[]): Promise<LedgerState>;
  /**
   * Adds an entry after `expected` and brings the facts up to date, both or neither. Answers false,
   * and adds nothing, where another entry came first: read again and decide again.
   */
  append(entry: Entry, expected: Head): Promise<boolean>;
  /** All entries from the first, each checked against the one before. Throws `corrupt`. */
  entries(): AsyncIterable<Entry>;
  close(): Promise<void>;
}
