import { HodError } from '../core/errors';
import { hashesDigest } from '../core/ledger/compaction';
import {
  changedOutside,
  emptyHead,
  headAfter,
  openEntry,
  type CompactedEntry,
  type Head,
  type SealedEntry,
} from '../core/ledger/entry';
import { compactedKey, Facts, type Fact } from '../core/ledger/facts';
import { digestHasher, sha256, type Digest } from '../core/oci/digest';
import { fileUnusable, openPlainFile } from '../system/plain-files';
import { writeFile } from '../system/write-file';
import { entryFileLines } from './copy';
import type { LedgerContent } from './ledger';

/**
 * Reads what was moved from a ledger into files; undefined where it has all its entries: nothing was moved, or it is a whole copy.
 *
 * @throws {@link HodError} `ledger-entry-corrupt` where the hashes of those entries are not those that were left behind.
 */
export async function readCompaction(content: LedgerContent): Promise<Fact<'compacted'> | undefined> {
  const entries = await compactedEntries(content);
  const last = entries.at(-1);
  if (last === undefined) {
    return undefined;
  }
  const said = await compactionOf(content);
  if (entries.length !== said?.total || last.seq !== said.through) {
    throw changedOutside(
      last.seq,
      `${entries.length} entries have no text, up to that one; the ledger says that ${said?.total ?? 0} were moved into files, up to ${said?.through ?? 0}`,
    );
  }
  if (hashesDigest(entries) !== said.hashes) {
    throw changedOutside(
      last.seq,
      'the hashes of entries that were moved into files are others than those that were left behind',
    );
  }
  return said;
}

/** The entries whose texts were moved into files, in their order. */
export async function compactedEntries(content: Pick<LedgerContent, 'compacted'>): Promise<CompactedEntry[]> {
  const entries: CompactedEntry[] = [];
  for await (const entry of content.compacted()) {
    entries.push(entry);
  }
  return entries;
}

async function compactionOf(content: Pick<LedgerContent, 'facts'>): Promise<Fact<'compacted'> | undefined> {
  for await (const { key, text } of content.facts()) {
    if (key.kind === compactedKey.kind) {
      const facts = new Facts();
      facts.load(key, text);
      return facts.get('compacted', key.key);
    }
  }
  return undefined;
}

/**
 * All entries of a ledger in their order: those that it has, and those that were moved into files. Each is checked against the one
 * before.
 *
 * @throws {@link HodError} `entries-compacted` where no file has an entry that was moved.
 */
export async function* wholeEntries(
  content: LedgerContent,
  files: readonly string[],
  product: string,
): AsyncGenerator<SealedEntry> {
  const moved = await MovedTexts.open(await compactedEntries(content), { files, content });
  try {
    let head: Head = emptyHead;
    for await (const kept of content.entries()) {
      while (head.seq + 1 < kept.entry.seq) {
        const sealed = openEntry(await moved.next(head.seq + 1), head);
        if (sealed.entry.product !== product) {
          throw changedOutside(sealed.entry.seq, `it is of ${sealed.entry.product}`);
        }
        yield sealed;
        head = headAfter(sealed);
      }
      yield kept;
      head = headAfter(kept);
    }
  } finally {
    await moved.close();
  }
}

/** The texts of entries that were moved into files: in each file in their order. */
class MovedTexts {
  private constructor(
    private readonly hashes: ReadonlyMap<number, Digest>,
    private readonly readers: readonly LineReader[],
    private readonly content: Pick<LedgerContent, 'facts'>,
  ) {}

  static async open(
    entries: readonly CompactedEntry[],
    { files, content }: { readonly files: readonly string[]; readonly content: Pick<LedgerContent, 'facts'> },
  ): Promise<MovedTexts> {
    const readers = await Promise.all(files.map((file) => LineReader.open(file)));
    return new MovedTexts(new Map(entries.map(({ seq, hash }) => [seq, hash])), readers, content);
  }

  /** The next entry, by its number. Numbers are asked for in their order. */
  async next(seq: number): Promise<{ text: string; hash: Digest }> {
    const hash = this.hashes.get(seq);
    for (const reader of hash === undefined ? [] : this.readers) {
      const text = reader.ahead;
      if (text !== undefined && sha256(text) === hash) {
        await reader.advance();
        return { text, hash };
      }
    }
    const files = (await compactionOf(this.content))?.files ?? [];
    throw new HodError('entries-compacted', {
      what: 'an entry was moved from the ledger into a file that was not given',
      object: `entry ${seq}`,
      why: `earlier entries are in ${files.map(({ file }) => file).join(', ')}`,
      next: 'name every one of these files with --compacted',
    });
  }

  async close(): Promise<void> {
    await Promise.all(this.readers.map((reader) => reader.close()));
  }
}

/** The lines of a file, one at a time. */
class LineReader {
  /** The line that comes next; undefined at the end. */
  ahead: string | undefined;

  private constructor(
    private readonly lines: AsyncGenerator<string>,
    private readonly handle: Awaited<ReturnType<typeof openPlainFile>>['handle'],
  ) {}

  static async open(file: string): Promise<LineReader> {
    const { handle } = await openPlainFile(file).catch((error: unknown) => {
      throw fileUnusable(file, error);
    });
    const reader = new LineReader(entryFileLines(handle, file), handle);
    await reader.advance();
    return reader;
  }

  async advance(): Promise<void> {
    const next = await this.lines.next();
    this.ahead = next.done === true ? undefined : next.value;
  }

  close(): Promise<void> {
    return this.handle.close();
  }
}

/**
 * Writes the texts of some entries to a file, a line each. Answers the digest of its bytes.
 *
 * @param isNew The file must not be there yet.
 * @throws {@link HodError} `file-unusable` where it cannot be written.
 */
export async function writeMovedTexts(
  file: string,
  content: Pick<LedgerContent, 'entries'>,
  { seqs, isNew }: { readonly seqs: ReadonlySet<number>; readonly isNew: boolean },
): Promise<Digest> {
  const hasher = digestHasher();
  async function* lines() {
    for await (const { entry, text } of content.entries()) {
      if (seqs.has(entry.seq)) {
        const line = Buffer.from(`${text}\n`);
        hasher.update(line);
        yield line;
      }
    }
  }
  await writeFile(file, lines(), { isNew }).catch((error: unknown) => {
    throw fileUnusable(file, error);
  });
  return hasher.digest();
}
