import { HodError } from '../core/errors';
import { emptyHead, foldInto, headAfter, type Head } from '../core/ledger/entry';
import { factName, Facts, type Fact } from '../core/ledger/facts';
import { SignatureCheck, type Signatures } from '../core/ledger/signatures';
import type { TrustedSigners } from '../core/trust/signer';
import { readCompaction, wholeEntries } from './compacted';
import type { LedgerContent } from './ledger';
import { copyingAdvice } from './problems';

/** How a ledger is checked. */
interface Verification {
  /** How people name it. */
  readonly label: string;
  /** Whose signatures count. */
  readonly trust: TrustedSigners;
  readonly product: string;
  /** Files that entries were moved into. */
  readonly files: readonly string[];
}

/** What was found of a ledger that is as it was written. */
interface Verified {
  readonly head: Head;
  /** How many facts there are. */
  readonly facts: number;
  readonly signatures: Signatures;
  /** What was moved into files; undefined where nothing was. */
  readonly compacted: Fact<'compacted'> | undefined;
  /** All entries were read, also those that were moved, and facts are what they add up to. */
  readonly isWhole: boolean;
}

/**
 * Checks that entries are a chain, that facts are what they add up to, and who signed the entries. Without the files into which entries
 * were moved it checks their hashes alone, and cannot add up facts.
 *
 * @throws {@link HodError} `ledger-entry-corrupt` or `ledger-facts-corrupt` where it is not so.
 */
export async function verifyContent(
  content: LedgerContent,
  { label, trust, product, files }: Verification,
): Promise<Verified> {
  const check = new SignatureCheck(trust);
  const folded = new Facts();
  const compacted = await readCompaction(content);
  const isWhole = compacted === undefined || files.length > 0;
  let head: Head = emptyHead;
  for await (const sealed of isWhole ? wholeEntries(content, files, product) : content.entries()) {
    head = headAfter(sealed);
    foldInto(folded, sealed.entry);
    check.add(sealed);
  }
  const facts = isWhole ? await compareFacts(content, folded, label) : await countFacts(content);
  return { head, facts, signatures: check.found, compacted, isWhole };
}

/** Counts the facts, each of them checked against the entry that set it. */
async function countFacts(content: LedgerContent): Promise<number> {
  const facts = content.facts()[Symbol.asyncIterator]();
  let count = 0;
  while ((await facts.next()).done !== true) {
    count += 1;
  }
  return count;
}

/** Compares the facts of a ledger with those that its entries add up to. Answers how many there are. */
async function compareFacts(content: LedgerContent, folded: Facts, label: string): Promise<number> {
  const expected = new Map(folded.all().map(({ key, text }) => [factName(key), text]));
  const corrupt = (fact: string, why: string): HodError =>
    new HodError('ledger-facts-corrupt', {
      what: 'the facts of the ledger do not follow from its entries',
      object: `${fact} in ${label}`,
      why,
      next: `its entries are intact: ${copyingAdvice}`,
    });
  let count = 0;
  for await (const { key, text } of content.facts()) {
    const name = factName(key);
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
