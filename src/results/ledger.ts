import * as z from 'zod';
import { digest } from './common';

export const ledgerResultSchema = z.strictObject({
  product: z.string(),
  ledger: z.string(),
  /** How many entries it has, and the hash of the last. */
  entries: z.number().int(),
  head: digest.nullable(),
  facts: z.number().int(),
});
export type LedgerResult = z.infer<typeof ledgerResultSchema>;

export const ledgerCopyResultSchema = z.strictObject({
  product: z.string(),
  /** The files or ledgers that entries were read from, and written to. */
  from: z.string(),
  to: z.string(),
  /** True where nothing was written: the document says what would have been. */
  dryRun: z.boolean(),
  /** Entries written, and entries that were there already. */
  written: z.number().int(),
  present: z.number().int(),
});
export type LedgerCopyResult = z.infer<typeof ledgerCopyResultSchema>;
