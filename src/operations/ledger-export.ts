import { createWriteStream } from 'node:fs';
import { pipeline } from 'node:stream/promises';
import type { LedgerCopyResult } from '../results/ledger';
import { withLedger } from '../session/open-ledger';
import { withProduct, type SessionOptions } from '../session/session';
import { fileUnusable } from '../workspace/files';

/** What `ledger export` is told. */
export interface ExportOptions extends SessionOptions {
  /** JSON lines: the text of each entry, as it is stored. */
  file: string;
}

/** Writes every entry to a file, a line each, exactly as it is stored. */
export async function exportLedger({ file, ...options }: ExportOptions): Promise<LedgerCopyResult> {
  return withProduct(options, (config, session) =>
    withLedger(config, session, 'read', async (ledger) => {
      let written = 0;
      async function* lines() {
        for await (const { text } of ledger.entries()) {
          written += 1;
          yield `${text}\n`;
        }
      }
      await pipeline(lines(), createWriteStream(file)).catch((error: unknown) => {
        throw fileUnusable(file, error);
      });
      return { product: config.product, file, dryRun: false, written, present: 0 };
    }),
  );
}
