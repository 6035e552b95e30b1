import type { After, CompactedEntry, Head, SealedEntry } from '../core/ledger/entry';
import type { FactKey, Facts, SetFact } from '../core/ledger/facts';
import type { RepositoryName } from '../core/oci/reference';

/** What a reader gets: the head and the facts as of one moment. */
export interface LedgerState {
  head: Head;
  facts: Facts;
}

/**
 * As of when a ledger is read: as it is now, or as it was found when it was last read, where asking
 * again takes its time. Who decides on the latter and is late loses the append, and decides again.
 */
export type Moment = 'newest' | 'known';

/** All of a ledger, as it is at one moment. */
export interface LedgerContent {
  /** All entries after some, from the first where none is named; each checked against the one before. Throws `corrupt`. */
  entries(after?: After): AsyncIterable<SealedEntry>;
  /** The entries whose texts were moved into files, by their hashes, in their order. {@link entries} leaves them out. */
  compacted(): AsyncIterable<CompactedEntry>;
  /** Every fact, and the entry that set it. Throws `corrupt` for one that was changed since. */
  facts(): AsyncIterable<SetFact>;
}

async function* nothing(): AsyncGenerator<never> {
  // There is nothing.
}

/** The content of a ledger that has no entries. */
export const emptyContent: LedgerContent = { entries: nothing, compacted: nothing, facts: nothing };

/** The ledger of another product that is kept in the same place. */
export interface NeighbourLedger extends Pick<LedgerContent, 'entries'> {
  readonly product: string;
}

/** Entries for one of several ledgers that are added to at once. */
export interface LedgerAppend {
  readonly ledger: Ledger;
  readonly entries: readonly SealedEntry[];
  /** The head that they follow. */
  readonly expected: Head;
}

/** The ledger of one product: an append-only sequence of entries and the facts that they add up to. */
export interface Ledger extends Pick<LedgerContent, 'entries'> {
  /** Names the file, database or remote that it is kept in, for people. Ledgers of one place can be added to at once. */
  readonly place: string;
  /**
   * The head, and those of the named facts that are set, as of one moment. Each fact is checked
   * against the entry that set it. Throws `corrupt`.
   */
  read(keys: readonly FactKey[], moment?: Moment): Promise<LedgerState>;
  /**
   * Adds entries after `expected` and brings the facts up to date, all or nothing. Answers how many
   * milliseconds the step took that is serialised; undefined where it is not known to have happened,
   * because another entry came first or the connection broke: read again and decide again.
   *
   * @param compacted Earlier entries whose texts are dropped in the same step; their hashes stay.
   */
  append(entries: readonly SealedEntry[], expected: Head, compacted?: readonly number[]): Promise<number | undefined>;
  /**
   * Adds entries to several ledgers of this place, this one among them or not: to all or to none. Answers as {@link append} does.
   */
  appendTogether(appends: readonly LedgerAppend[]): Promise<number | undefined>;
  /** Throws where entries cannot be added, as far as that is seen without adding one. */
  mayAppend(): Promise<void>;
  /** Does work on the ledger as it is at one moment, whatever others add meanwhile. */
  snapshot<T>(work: (content: LedgerContent) => Promise<T>): Promise<T>;
  /** The ledgers of other products in the same place, without those that have nothing in some repositories. */
  neighbours(repositories: readonly RepositoryName[]): Promise<readonly NeighbourLedger[]>;
  close(): Promise<void>;
}

/** How a ledger is opened. */
export interface LedgerOptions {
  product: string;
  /** `read`: nothing is made or changed; what does not exist is empty. */
  access: 'read' | 'write';
  /** Told when somebody else is waited for. */
  waiting: (text: string) => void;
}

/** A ledger that is kept by the same engine as another. Throws an `Error` for one that is not: places are compared before. */
export function sameEngine<T extends Ledger>(ledger: Ledger, engine: abstract new (...args: never[]) => T): T {
  if (!(ledger instanceof engine)) {
    throw new Error(`the ledger in ${ledger.place} is of another engine`);
  }
  return ledger;
}
