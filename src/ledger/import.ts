import { HodError } from '../core/errors';
import type { SealedEntry } from '../core/ledger/entry';
import type { Ledger } from './ledger';

/** Entries written at a time. */
const batchSize = 100;
/** How often a batch is written that the connection broke on. */
const attempts = 5;

/** A ledger that entries are added to; `label`: how people name it. Without `dryRun` they are. */
export interface ImportTarget {
  readonly ledger: Ledger;
  readonly label: string;
  readonly dryRun: boolean;
}

/** How many entries were added, or would be, and how many were there already. */
export interface ImportedEntries {
  readonly written: number;
  readonly present: number;
}

/**
 * Adds entries to a ledger. Those that are there already are skipped, so that it can be run again.
 *
 * @throws {@link HodError} `other-entries` where the ledger has others.
 */
export async function importEntries(
  entries: AsyncIterable<SealedEntry>,
  target: ImportTarget,
): Promise<ImportedEntries> {
  const known = target.ledger.entries()[Symbol.asyncIterator]();
  const added = new Batches(target);
  let present = 0;
  let there = await known.next();
  for await (const sealed of entries) {
    if (there.done === true) {
      await added.add(sealed);
    } else if (there.value.entry.seq > sealed.entry.seq) {
      // Its text was moved into a file. The next one that is there names its hash.
      present += 1;
    } else if (there.value.hash === sealed.hash) {
      present += 1;
      there = await known.next();
    } else {
      throw otherEntries(target, sealed.entry.seq);
    }
  }
  await added.flush();
  return { written: added.written, present };
}

/** Appends entries, many at a time. */
class Batches {
  written = 0;
  private batch: SealedEntry[] = [];

  constructor(private readonly target: ImportTarget) {}

  async add(sealed: SealedEntry): Promise<void> {
    this.batch.push(sealed);
    if (this.batch.length === batchSize) {
      await this.flush();
    }
  }

  async flush(): Promise<void> {
    const [first] = this.batch;
    if (first === undefined) {
      return;
    }
    if (!this.target.dryRun) {
      await this.write(first, this.batch.at(-1) ?? first);
    }
    this.written += this.batch.length;
    this.batch = [];
  }

  /** Where the connection broke, reads the ledger to find out whether the batch was written. */
  private async write(first: SealedEntry, last: SealedEntry): Promise<void> {
    const { seq, previous } = first.entry;
    const expected = { seq: seq - 1, hash: previous };
    for (let attempt = 1; (await this.target.ledger.append(this.batch, expected)) === undefined; attempt += 1) {
      const { head } = await this.target.ledger.read([]);
      if (head.seq === last.entry.seq && head.hash === last.hash) {
        return;
      }
      if (head.seq !== expected.seq || head.hash !== expected.hash) {
        throw otherEntries(this.target, seq);
      }
      if (attempt === attempts) {
        throw new HodError('ledger-unavailable', {
          what: 'the ledger cannot be used',
          object: this.target.label,
          why: `the connection broke ${attempts} times while entries were written`,
          next: 'run the command again; what is there is skipped',
        });
      }
    }
  }
}

function otherEntries({ label }: ImportTarget, seq: number): HodError {
  return new HodError('other-entries', {
    what: 'this ledger has entries of its own',
    object: `entry ${seq} in ${label}`,
    why: 'what is imported goes on otherwise than the ledger does',
    next: 'import into a new ledger, or into the one that this is a copy of',
  });
}
