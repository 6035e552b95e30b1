import { verifyContent } from '../ledger/verify';
import type { LedgerResult } from '../results/ledger';
import { ledgerLabel, withLedger } from '../session/open-ledger';
import { withProduct, type SessionOptions } from '../session/session';

/** Checks a ledger as it is at one moment: its entries are a chain, and its facts are what they add up to. */
export async function verifyLedger(options: SessionOptions): Promise<LedgerResult> {
  return withProduct(options, (config, session) =>
    withLedger(config, session, 'read', async (ledger) => {
      const label = ledgerLabel(config);
      const { head, facts } = await ledger.snapshot((content) => verifyContent(content, label));
      return { product: config.product, ledger: label, entries: head.seq, head: head.hash, facts };
    }),
  );
}
