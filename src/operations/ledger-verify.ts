import { verifyContent } from '../ledger/verify';
import { toSignatures, type LedgerResult } from '../results/ledger';
import { ledgerLabel, withLedger } from '../session/open-ledger';
import { withProduct, type SessionOptions } from '../session/session';
import { readTrustedSigners } from '../workspace/trust';

/** Checks a ledger as it is at one moment: its entries are a chain, its facts are what they add up to, and who signed them. */
export async function verifyLedger(options: SessionOptions): Promise<LedgerResult> {
  return withProduct(options, (config, session) =>
    withLedger(config, session, 'read', async (ledger) => {
      const label = ledgerLabel(config);
      const trust = await readTrustedSigners(config);
      const { head, facts, signatures } = await ledger.snapshot((content) => verifyContent(content, label, trust));
      const { product, sign } = config;
      const about = { product, ledger: label, entries: head.seq, head: head.hash, facts };
      return { ...about, signatures: toSignatures(signatures, { signs: sign !== undefined }) };
    }),
  );
}
