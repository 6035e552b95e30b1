import { verifyContent } from '../ledger/verify';
import { toCompacted, toSignatures, type LedgerResult } from '../results/ledger';
import { ledgerLabel, withLedger } from '../session/open-ledger';
import { withProduct, type SessionOptions } from '../session/session';
import { readTrustedSigners } from '../workspace/trust';

/** What `ledger verify` is told. */
export interface VerifyOptions extends SessionOptions {
  /** The files into which `ledger compact` moved entries. */
  compacted?: readonly string[] | undefined;
}

/** Checks a ledger as it is at one moment: its entries are a chain, its facts are what they add up to, and who signed them. */
export async function verifyLedger({ compacted: files = [], ...options }: VerifyOptions): Promise<LedgerResult> {
  return withProduct(options, (config, session) =>
    withLedger(config, session, 'read', async (ledger) => {
      const label = ledgerLabel(config);
      const trust = await readTrustedSigners(config);
      const { product, sign } = config;
      const found = await ledger.snapshot((content) => verifyContent(content, { label, trust, product, files }));
      const { head, facts, signatures } = found;
      const about = { product, ledger: label, entries: head.seq, head: head.hash, facts };
      return {
        ...about,
        signatures: toSignatures(signatures, { signs: sign !== undefined }),
        compacted: toCompacted(found),
      };
    }),
  );
}
