import type { Head, SealedEntry } from '../core/release/entry';
import type { FactKey, Facts, StoredFact } from '../core/release/facts';

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
   * Adds entries after `expected` and brings the facts up to date, all or nothing. Answers how many
   * milliseconds the step took that is serialised; undefined where it is not known to have happened,
   * because another entry came first or the connection broke: read again and decide again.
   */
  append(entries: readonly SealedEntry[], expected: Head): Promise<number | undefined>;
  /** All entries from the first, each checked against the one before. Throws `corrupt`. */
  entries(): AsyncIterable<SealedEntry>;
  /** Every fact, as it is stored. */
  facts(): AsyncIterable<StoredFact>;
  close(): Promise<void>;
}
