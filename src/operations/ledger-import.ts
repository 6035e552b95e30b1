import { createReadStream } from 'node:fs';
import { createInterface } from 'node:readline';
import { HodError } from '../core/errors';
import { sha256 } from '../core/oci/digest';
import { emptyHead, headAfter, openEntry, type Head, type SealedEntry } from '../core/release/entry';
import type { Ledger } from '../ledger/ledger';
import type { LedgerCopyResult } from '../results/ledger';
import { ledgerLabel, withLedger } from '../session/open-ledger';
import { withProduct, type SessionOptions } from '../session/session';
import type { Config } from '../workspace/config';
import { fileUnusable } from '../workspace/files';

/** What `ledger import` is told. */
export interface ImportOptions extends SessionOptions {
  /** What `ledger export` wrote. */
  file: string;
  dryRun?: true | undefined;
}

/** Entries written at a time: one statement takes 65,535 values at most, and an entry sets dozens of facts. */
const batchSize = 100;

/**
 * Adds the entries of a file to a ledger, each checked against the one before. Those that are there
 * already are skipped, so that it can be run again.
 *
 * Throws `corrupt` where the file is not a chain, `refused` where the ledger has other entries.
 */
export async function importLedger({ file, ...options }: ImportOptions): Promise<LedgerCopyResult> {
  const dryRun = options.dryRun === true;
  return withProduct(options, (config, session) =>
    withLedger(config, session, dryRun ? 'read' : 'write', async (ledger) => {
      const known = ledger.entries()[Symbol.asyncIterator]();
      const added = new Batches(ledger, config, dryRun);
      let head: Head = emptyHead;
      let present = 0;
      for await (const text of linesOf(file)) {
        const sealed = openEntry({ text, hash: sha256(text) }, head);
        refuseOtherProduct(sealed, config, file);
        head = headAfter(sealed);
        const there = await known.next();
        if (there.done === true) {
          await added.add(sealed);
        } else if (there.value.hash === sealed.hash) {
          present += 1;
        } else {
          throw otherEntries(config, sealed.entry.seq);
        }
      }
      await added.flush();
      return { product: config.product, file, dryRun, written: added.written, present };
    }),
  );
}

/** Appends entries, many at a time. */
class Batches {
  written = 0;
  private batch: SealedEntry[] = [];

  constructor(
    private readonly ledger: Ledger,
    private readonly config: Config,
    private readonly dryRun: boolean,
  ) {}

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
    const { seq, previous } = first.entry;
    const expected = { seq: seq - 1, hash: previous };
    if (!this.dryRun && (await this.ledger.append(this.batch, expected)) === undefined) {
      throw otherEntries(this.config, seq);
    }
    this.written += this.batch.length;
    this.batch = [];
  }
}

async function* linesOf(file: string): AsyncGenerator<string> {
  const input = createReadStream(file);
  const failed = new Promise<never>((_, reject) => input.once('error', (error) => reject(fileUnusable(file, error))));
  failed.catch(() => undefined);
  const lines = createInterface({ input, crlfDelay: Infinity })[Symbol.asyncIterator]();
  for (;;) {
    const line = await Promise.race([lines.next(), failed]);
    if (line.done === true) {
      return;
    }
    if (line.value !== '') {
      yield line.value;
    }
  }
}

function refuseOtherProduct({ entry }: SealedEntry, { product }: Config, file: string): void {
  if (entry.product !== product) {
    throw new HodError('other-product', {
      what: 'these entries are of another product',
      object: file,
      why: `they are of ${entry.product}, and hod.yaml is of ${product}`,
      next: 'name the right file, or the right configuration with --config',
    });
  }
}

function otherEntries(config: Config, seq: number): HodError {
  return new HodError('other-entries', {
    what: 'this ledger has entries of its own',
    object: `entry ${seq} in ${ledgerLabel(config)}`,
    why: 'the file goes on otherwise than the ledger does',
    next: 'import into a new ledger, or one that the file was exported from',
  });
}
