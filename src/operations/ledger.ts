import { createReadStream, createWriteStream } from 'node:fs';
import { createInterface } from 'node:readline';
import { pipeline } from 'node:stream/promises';
import { HodError } from '../core/errors';
import { emptyHead, openEntry, type Head, type SealedEntry } from '../core/release/entry';
import { Facts, foldInto } from '../core/release/facts';
import { sha256 } from '../core/oci/digest';
import type { Ledger } from '../ledger/ledger';
import type { Config } from '../workspace/config';
import type { LedgerCopyResult, LedgerResult } from './results';
import { withLedger, withProduct, type SessionOptions } from './session';

/** What `ledger verify` is told. */
export type VerifyOptions = SessionOptions;
/** What `ledger export` and `ledger import` are told. */
export interface CopyOptions extends SessionOptions {
  /** JSON lines: the text of each entry, as it is stored. */
  file: string;
}

/** Entries written at a time: one statement takes 65,535 values at most, and an entry sets dozens of facts. */
const batchSize = 100;

/**
 * Checks a ledger: that its entries are a chain, and that its facts are what they add up to. Throws
 * `corrupt` where it is not so.
 */
export async function verifyLedger(options: VerifyOptions): Promise<LedgerResult> {
  return withProduct(options, (config) =>
    withLedger(config, 'read', async (ledger) => {
      const folded = new Facts();
      let head: Head = emptyHead;
      for await (const { entry, hash } of ledger.entries()) {
        head = { seq: entry.seq, hash };
        foldInto(folded, entry);
      }
      const facts = await compareFacts(ledger, folded, labelOf(config));
      return { product: config.product, ledger: labelOf(config), entries: head.seq, head: head.hash, facts };
    }),
  );
}

async function compareFacts(ledger: Ledger, folded: Facts, label: string): Promise<number> {
  const expected = new Map(folded.all().map(({ key, text }) => [`${key.kind} ${key.key}`, text]));
  const corrupt = (object: string, why: string): HodError =>
    new HodError('corrupt', {
      what: 'the facts of the ledger do not follow from its entries',
      object: `${object} in ${label}`,
      why,
      next: 'its entries are sound: `hod ledger export` them, and import them into a new ledger',
    });
  let count = 0;
  for await (const { key, text } of ledger.facts()) {
    const name = `${key.kind} ${key.key}`;
    if (expected.get(name) !== text) {
      throw corrupt(name, expected.has(name) ? 'it says something else' : 'no entry says it');
    }
    count += 1;
    expected.delete(name);
  }
  const [missing] = expected.keys();
  if (missing !== undefined) {
    throw corrupt(missing, 'it is not there');
  }
  return count;
}

/** Writes every entry to a file, a line each, exactly as it is stored. */
export async function exportLedger(options: CopyOptions): Promise<LedgerCopyResult> {
  return withProduct(options, (config) =>
    withLedger(config, 'read', async (ledger) => {
      let written = 0;
      async function* lines() {
        for await (const { text } of ledger.entries()) {
          written += 1;
          yield `${text}\n`;
        }
      }
      await pipeline(lines(), createWriteStream(options.file)).catch((error: unknown) => {
        throw fileError(options.file, error);
      });
      return { product: config.product, file: options.file, written, present: 0 };
    }),
  );
}

/**
 * Adds the entries of a file to a ledger, each checked against the one before. Those that are there
 * already are passed over, so that it can be run again.
 *
 * Throws `corrupt` where the file is not a chain, `refused` where the ledger has other entries.
 */
export async function importLedger(options: CopyOptions): Promise<LedgerCopyResult> {
  return withProduct(options, (config) =>
    withLedger(config, 'write', async (ledger) => {
      const { file } = options;
      const { product } = config;
      const known = ledger.entries()[Symbol.asyncIterator]();
      let head: Head = emptyHead;
      let present = 0;
      let written = 0;
      let batch: SealedEntry[] = [];
      const flush = async (): Promise<void> => {
        const first = batch[0];
        if (first === undefined) {
          return;
        }
        const expected = { seq: first.entry.seq - 1, hash: first.entry.previous };
        if ((await ledger.append(batch, expected)) === undefined) {
          throw otherEntries(config, first.entry.seq);
        }
        written += batch.length;
        batch = [];
      };
      for await (const text of linesOf(file)) {
        const sealed = openEntry({ text, hash: sha256(text) }, head);
        if (sealed.entry.product !== product) {
          throw new HodError('refused', {
            what: 'these entries are of another product',
            object: file,
            why: `they are of ${sealed.entry.product}, and hod.yaml is of ${product}`,
            next: 'name the right file, or the right configuration with --config',
          });
        }
        head = { seq: sealed.entry.seq, hash: sealed.hash };
        const there = await known.next();
        if (there.done !== true) {
          if (there.value.hash !== sealed.hash) {
            throw otherEntries(config, sealed.entry.seq);
          }
          present += 1;
          continue;
        }
        batch.push(sealed);
        if (batch.length === batchSize) {
          await flush();
        }
      }
      await flush();
      return { product, file, written, present };
    }),
  );
}

async function* linesOf(file: string): AsyncGenerator<string> {
  const input = createReadStream(file);
  const failed = new Promise<never>((_, reject) => input.once('error', (error) => reject(fileError(file, error))));
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

function fileError(file: string, error: unknown): HodError {
  return new HodError(
    'usage',
    {
      what: 'this file cannot be used',
      object: file,
      why: error instanceof Error ? error.message : String(error),
      next: 'name another file',
    },
    { cause: error },
  );
}

function otherEntries(config: Config, seq: number): HodError {
  return new HodError('refused', {
    what: 'this ledger has entries of its own',
    object: `entry ${seq} in ${labelOf(config)}`,
    why: 'the file goes on otherwise than the ledger does',
    next: 'import into a new ledger, or one that the file was exported from',
  });
}

function labelOf({ ledger }: Config): string {
  return 'file' in ledger ? ledger.file : 'PostgreSQL';
}
