import type { SealedEntry } from '../core/ledger/entry';
import { wholeEntries } from '../ledger/compacted';
import { readCopy } from '../ledger/copy';
import { importEntries } from '../ledger/import';
import type { LedgerCopyResult } from '../results/ledger';
import { ledgerLabel, refuseEmpty, withLedger } from '../session/open-ledger';
import { withProduct, type SessionOptions } from '../session/session';
import { withLedgerAt } from '../workspace/config';

/** What `ledger import` is told. */
export interface ImportOptions extends SessionOptions {
  /** Where entries come from: what `ledger export` wrote, or another ledger, written as under `ledger:` in hod.yaml. */
  source: { readonly file: string } | { readonly ledger: string };
  dryRun?: true | undefined;
}

/** Adds the entries of a file, or of another ledger, to a ledger, each checked against the one before. */
export async function importLedger({ source, ...options }: ImportOptions): Promise<LedgerCopyResult> {
  return withProduct(options, async (config, session) => {
    const { product } = config;
    const dryRun = options.dryRun === true;
    const label = ledgerLabel(config);
    const add = (entries: AsyncIterable<SealedEntry>, from: string): Promise<LedgerCopyResult> =>
      withLedger(config, session, dryRun ? 'read' : 'write', async (ledger) => {
        const imported = await importEntries(entries, { ledger, label, dryRun });
        return { product, from, to: label, dryRun, ...imported };
      });
    if ('file' in source) {
      return add(readCopy(source.file, product), source.file);
    }
    const other = withLedgerAt(source.ledger, config);
    return withLedger(other, session, 'read', async (ledger) => {
      await refuseEmpty(other, ledger);
      return ledger.snapshot((content) => add(wholeEntries(content, [], product), ledgerLabel(other)));
    });
  });
}
