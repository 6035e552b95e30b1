import { emptyHead, endLine, headAfter, type Head } from '../core/ledger/entry';
import type { LedgerCopyResult } from '../results/ledger';
import { ledgerLabel, withLedger } from '../session/open-ledger';
import { withProduct, type SessionOptions } from '../session/session';
import { writeFile } from '../system/write-file';
import { fileUnusable } from '../workspace/files';

/** What `ledger export` is told. */
export interface ExportOptions extends SessionOptions {
  /** JSON lines: the text of each entry, as it is stored, and a last line that says how many there are. */
  file: string;
}

/** Writes every entry to a file, a line each, exactly as it is stored; the last line vouches for those before it. */
export async function exportLedger({ file, ...options }: ExportOptions): Promise<LedgerCopyResult> {
  return withProduct(options, (config, session) =>
    withLedger(config, session, 'read', async (ledger) => {
      let head: Head = emptyHead;
      async function* lines() {
        for await (const sealed of ledger.entries()) {
          head = headAfter(sealed);
          yield `${sealed.text}\n`;
        }
        yield `${endLine(head)}\n`;
      }
      await writeFile(file, lines()).catch((error: unknown) => {
        throw fileUnusable(file, error);
      });
      return {
        product: config.product,
        from: ledgerLabel(config),
        to: file,
        dryRun: false,
        written: head.seq,
        present: 0,
      };
    }),
  );
}
