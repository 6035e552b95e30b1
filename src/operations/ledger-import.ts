import type { FileHandle } from 'node:fs/promises';
import { HodError } from '../core/errors';
import { sha256 } from '../core/oci/digest';
import { emptyHead, headAfter, openEntry, readEndLine, type Head, type SealedEntry } from '../core/ledger/entry';
import type { Ledger } from '../ledger/ledger';
import type { LedgerCopyResult } from '../results/ledger';
import { ledgerLabel, refuseEmpty, withLedger } from '../session/open-ledger';
import { withProduct, type SessionOptions } from '../session/session';
import { withLedgerAt, type Config } from '../workspace/config';
import { fileUnusable, openPlainFile } from '../workspace/files';

/** What `ledger import` is told. */
export interface ImportOptions extends SessionOptions {
  /** Where entries come from: what `ledger export` wrote, or another ledger, written as under `ledger:` in hod.yaml. */
  source: { readonly file: string } | { readonly ledger: string };
  dryRun?: true | undefined;
}

/** Entries written at a time. */
const batchSize = 100;
/** Bytes read at a time, and of the longest line: an entry about hundreds of images with dozens of tags has a few million. */
const readSize = 256 * 1024;
const lineLimit = 32 * 1024 * 1024;
/** How often a batch is written that the connection broke on. */
const attempts = 5;

/**
 * Adds the entries of a file, or of another ledger, to a ledger, each checked against the one before. Those
 * that are there already are skipped, so that it can be run again.
 *
 * Throws `corrupt` where they are no chain, `refused` where the ledger has other entries.
 */
export async function importLedger({ source, ...options }: ImportOptions): Promise<LedgerCopyResult> {
  return withProduct(options, async (config, session) => {
    const dryRun = options.dryRun === true;
    const add = (entries: AsyncIterable<SealedEntry>, from: string): Promise<LedgerCopyResult> =>
      withLedger(config, session, dryRun ? 'read' : 'write', async (ledger) => {
        const { product } = config;
        const copied = await addEntries(entries, ledger, config, dryRun);
        return { product, from, to: ledgerLabel(config), dryRun, ...copied };
      });
    if ('file' in source) {
      return add(entriesOfFile(source.file, config), source.file);
    }
    const other = withLedgerAt(source.ledger, config);
    return withLedger(other, session, 'read', async (ledger) => {
      await refuseEmpty(other, ledger);
      return ledger.snapshot((content) => add(content.entries(), ledgerLabel(other)));
    });
  });
}

async function addEntries(
  entries: AsyncIterable<SealedEntry>,
  ledger: Ledger,
  config: Config,
  dryRun: boolean,
): Promise<Pick<LedgerCopyResult, 'written' | 'present'>> {
  const known = ledger.entries()[Symbol.asyncIterator]();
  const added = new Batches(ledger, config, dryRun);
  let present = 0;
  for await (const sealed of entries) {
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
  return { written: added.written, present };
}

/** The entries of a copy, each checked against the one before. */
async function* entriesOfFile(file: string, config: Config): AsyncGenerator<SealedEntry> {
  let head: Head = emptyHead;
  for await (const text of entryLines(file)) {
    const sealed = openEntry({ text, hash: sha256(text) }, head);
    refuseOtherProduct(sealed, config, file);
    yield sealed;
    head = headAfter(sealed);
  }
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
    if (!this.dryRun) {
      await this.write(first, this.batch.at(-1) ?? first);
    }
    this.written += this.batch.length;
    this.batch = [];
  }

  /** Where it is not known whether the batch was written, the ledger tells. */
  private async write(first: SealedEntry, last: SealedEntry): Promise<void> {
    const { seq, previous } = first.entry;
    const expected = { seq: seq - 1, hash: previous };
    for (let attempt = 1; (await this.ledger.append(this.batch, expected)) === undefined; attempt += 1) {
      const { head } = await this.ledger.read([]);
      if (head.seq === last.entry.seq && head.hash === last.hash) {
        return;
      }
      if (head.seq !== expected.seq || head.hash !== expected.hash) {
        throw otherEntries(this.config, seq);
      }
      if (attempt === attempts) {
        throw new HodError('ledger-unavailable', {
          what: 'the ledger cannot be used',
          object: ledgerLabel(this.config),
          why: `the connection broke ${attempts} times while entries were written`,
          next: 'run the command again; what is there is skipped',
        });
      }
    }
  }
}

/** The lines of a copy that are entries. Throws `corrupt`, before the first, where the last line is not that of a whole copy. */
async function* entryLines(file: string): AsyncGenerator<string> {
  const handle = await openCopy(file);
  try {
    const end = await readEnd(handle);
    if (end === undefined) {
      throw cutOff(file, 'its last line does not say where it ends, as that of `hod ledger export` does');
    }
    let seq = 0;
    let last: string | undefined;
    for await (const line of linesOf(handle, file)) {
      if (readEndLine(line) === undefined) {
        seq += 1;
        last = line;
        yield line;
      }
    }
    if (seq !== end.seq || (last === undefined ? null : sha256(last)) !== end.hash) {
      throw cutOff(file, `it ends with entry ${seq}, and says that it ends with another ${end.seq}`);
    }
  } finally {
    await handle.close();
  }
}

/** The head that the last line of a copy names. */
async function readEnd(handle: FileHandle): Promise<Head | undefined> {
  const { size } = await handle.stat();
  const length = Math.min(size, 1024);
  const { buffer } = await handle.read(Buffer.alloc(length), 0, length, size - length);
  return readEndLine(buffer.toString('utf8').trimEnd().split('\n').at(-1) ?? '');
}

async function openCopy(file: string): Promise<FileHandle> {
  return openPlainFile(file).catch((error: unknown) => {
    throw fileUnusable(file, error);
  });
}

/** The lines of a file that are not empty. Throws `corrupt` for one that no entry is as long as. */
async function* linesOf(handle: FileHandle, file: string): AsyncGenerator<string> {
  let pieces: Buffer[] = [];
  let length = 0;
  for (let at = 0; ;) {
    const { bytesRead, buffer } = await handle.read(Buffer.allocUnsafe(readSize), 0, readSize, at);
    at += bytesRead;
    const read = buffer.subarray(0, bytesRead);
    let from = 0;
    for (let mark = read.indexOf(10); mark >= 0; mark = read.indexOf(10, from)) {
      const line = Buffer.concat([...pieces, read.subarray(from, mark)])
        .toString('utf8')
        .replace(/\r$/, '');
      pieces = [];
      length = 0;
      from = mark + 1;
      if (line !== '') {
        yield line;
      }
    }
    pieces.push(read.subarray(from));
    length += bytesRead - from;
    if (length > lineLimit) {
      throw cutOff(file, `a line in it has more than ${lineLimit} bytes, which no entry has`);
    }
    if (bytesRead === 0) {
      const line = Buffer.concat(pieces).toString('utf8');
      if (line !== '') {
        yield line;
      }
      return;
    }
  }
}

function cutOff(file: string, why: string): HodError {
  return new HodError('ledger-entry-corrupt', {
    what: 'this is no whole copy of a ledger',
    object: file,
    why,
    next: 'export the ledger again',
  });
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
    why: 'what is imported goes on otherwise than the ledger does',
    next: 'import into a new ledger, or into the one that this is a copy of',
  });
}
