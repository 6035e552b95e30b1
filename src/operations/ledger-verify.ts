import { HodError } from '../core/errors';
import { emptyHead, foldInto, headAfter, type Head } from '../core/ledger/entry';
import { factName, Facts } from '../core/ledger/facts';
import type { LedgerContent } from '../ledger/ledger';
import type { LedgerResult } from '../results/ledger';
import { ledgerLabel, withLedger } from '../session/open-ledger';
import { withProduct, type SessionOptions } from '../session/session';

/**
 * Checks a ledger as it is at one moment: that its entries are a chain, and that its facts are what they add up to. Throws
 * `corrupt` where it is not so.
 */
export async function verifyLedger(options: SessionOptions): Promise<LedgerResult> {
  return withProduct(options, (config, session) =>
    withLedger(config, session, 'read', (ledger) =>
      ledger.snapshot(async (content) => {
        const folded = new Facts();
        let head: Head = emptyHead;
        for await (const sealed of content.entries()) {
          head = headAfter(sealed);
          foldInto(folded, sealed.entry);
        }
        const label = ledgerLabel(config);
        const facts = await compareFacts(content, folded, label);
        return { product: config.product, ledger: label, entries: head.seq, head: head.hash, facts };
      }),
    ),
  );
}

/** Compares the facts of a ledger with those that its entries add up to. Answers how many there are. */
async function compareFacts(content: LedgerContent, folded: Facts, label: string): Promise<number> {
  const expected = new Map(folded.all().map(({ key, text }) => [factName(key), text]));
  const corrupt = (fact: string, why: string): HodError =>
    new HodError('ledger-facts-corrupt', {
      what: 'the facts of the ledger do not follow from its entries',
      object: `${fact} in ${label}`,
      why,
      next: 'its entries are intact: `hod ledger export` them, and import them into a new ledger',
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
