import { HodError } from '../core/errors';
import { emptyHead, foldInto, headAfter, type Head } from '../core/ledger/entry';
import { factName, Facts } from '../core/ledger/facts';
import { SignatureCheck, type Signatures } from '../core/ledger/signatures';
import type { TrustedSigners } from '../core/trust/signer';
import type { LedgerContent } from './ledger';
import { copyingAdvice } from './problems';

/**
 * Checks that entries are a chain, that facts are what they add up to, and who signed the entries. Answers the head, and how many
 * facts there are.
 *
 * @param label How people name the ledger.
 * @param trust Whose signatures count.
 * @throws {@link HodError} `ledger-entry-corrupt` or `ledger-facts-corrupt` where it is not so.
 */
export async function verifyContent(
  content: LedgerContent,
  label: string,
  trust: TrustedSigners,
): Promise<{ head: Head; facts: number; signatures: Signatures }> {
  const check = new SignatureCheck(trust);
  const folded = new Facts();
  let head: Head = emptyHead;
  for await (const sealed of content.entries()) {
    head = headAfter(sealed);
    foldInto(folded, sealed.entry);
    check.add(sealed);
  }
  return { head, facts: await compareFacts(content, folded, label), signatures: check.found };
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
