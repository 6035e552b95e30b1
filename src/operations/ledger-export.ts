import { wholeEntries } from '../ledger/compacted';
import { writeCopy } from '../ledger/copy';
import type { LedgerCopyResult } from '../results/ledger';
import { ledgerLabel, withLedger } from '../session/open-ledger';
import { withProduct, type SessionOptions } from '../session/session';

/** What `ledger export` is told. */
export interface ExportOptions extends SessionOptions {
  /** JSON lines: the text of each entry, as it is stored, and a last line that says how many there are. */
  file: string;
  /** The files into which `ledger compact` moved entries. */
  compacted?: readonly string[] | undefined;
}

/** Writes every entry to a file, a line each, exactly as it is stored; the last line vouches for those before it. */
export async function exportLedger({ file, compacted = [], ...options }: ExportOptions): Promise<LedgerCopyResult> {
  return withProduct(options, (config, session) =>
    withLedger(config, session, 'read', async (ledger) => {
      const { seq: written } = await ledger.snapshot((content) =>
        writeCopy(file, wholeEntries(content, compacted, config.product)),
      );
      return { product: config.product, from: ledgerLabel(config), to: file, dryRun: false, written, present: 0 };
    }),
  );
}
