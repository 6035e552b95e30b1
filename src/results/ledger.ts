import * as z from 'zod';
import type { Signatures } from '../core/ledger/signatures';
import type { Fact } from '../core/ledger/facts';
import { digest } from './common';

export const ledgerResultSchema = z.strictObject({
  product: z.string(),
  ledger: z.string(),
  /** How many entries it has, and the hash of the last. */
  entries: z.number().int(),
  head: digest.nullable(),
  facts: z.number().int(),
  /** Who signed the entries; null where none is signed, and hod.yaml does not sign. */
  signatures: z
    .strictObject({
      /** The first entry that is signed; null where none is. */
      since: z.number().int().nullable(),
      signers: z.array(
        z.strictObject({
          /** The name under `trust:`, and the key. */
          by: z.string(),
          key: z.string(),
          entries: z.number().int(),
          first: z.number().int(),
          last: z.number().int(),
        }),
      ),
      /** Entries since the first signed one that nobody signed who is trusted: the first hundred stretches. */
      unsigned: z.array(
        z.strictObject({
          from: z.number().int(),
          to: z.number().int(),
          problem: z.string(),
          /** Who accepted them, and why; null where nobody has. */
          accepted: z.strictObject({ by: z.string(), reason: z.string() }).nullable(),
        }),
      ),
    })
    .nullable(),
  /** The entries that were moved into files; null where none was. */
  compacted: z
    .strictObject({
      entries: z.number().int(),
      files: z.array(
        z.strictObject({ file: z.string(), digest, entries: z.number().int(), at: z.string(), by: z.string() }),
      ),
      /** True where they were read from these files, too, and facts are what all entries add up to; else their hashes alone were checked. */
      read: z.boolean(),
    })
    .nullable(),
});
export type LedgerResult = z.infer<typeof ledgerResultSchema>;

function isOpen({ accepted }: Signatures['unsigned'][number]): boolean {
  return accepted === undefined;
}

/** So many stretches of unsigned entries are told. */
const stretchesTold = 100;

/** Who signed the entries of a ledger, as a document. */
export function toSignatures(
  { since, signers, unsigned }: Signatures,
  { signs }: { readonly signs: boolean },
): LedgerResult['signatures'] {
  return since === undefined && !signs
    ? null
    : {
        since: since ?? null,
        signers: signers.map((each) => ({ ...each })),
        // Those that nobody accepted go first: the exit code tells of them, however many there are.
        unsigned: [...unsigned.filter(isOpen), ...unsigned.filter((each) => !isOpen(each))]
          .slice(0, stretchesTold)
          .map((each) => ({ ...each, accepted: each.accepted ?? null })),
      };
}

/** What was moved into files, as a document. */
export function toCompacted({
  compacted,
  isWhole,
}: {
  readonly compacted: Fact<'compacted'> | undefined;
  /** They were read from the files, too. */
  readonly isWhole: boolean;
}): LedgerResult['compacted'] {
  return compacted === undefined
    ? null
    : { entries: compacted.total, files: compacted.files.map((each) => ({ ...each })), read: isWhole };
}

export const ledgerCompactResultSchema = z.strictObject({
  product: z.string(),
  ledger: z.string(),
  file: z.string(),
  /** True where nothing was moved: the document says what would be. */
  dryRun: z.boolean(),
  /** Releases of which something was recorded since then keep all their entries. */
  before: z.string(),
  /** Entries that were moved into the file, and entries that the ledger still has. */
  entries: z.number().int(),
  kept: z.number().int(),
});
export type LedgerCompactResult = z.infer<typeof ledgerCompactResultSchema>;

export const ledgerAcceptResultSchema = z.strictObject({
  product: z.string(),
  ledger: z.string(),
  by: z.string(),
  /** True where nothing was written: the document says what would have been. */
  dryRun: z.boolean(),
  /** The first and the last of the entries, null where there is none; and how many of those between nobody signed who is trusted. */
  from: z.number().int().nullable(),
  to: z.number().int().nullable(),
  entries: z.number().int(),
  reason: z.string(),
});
export type LedgerAcceptResult = z.infer<typeof ledgerAcceptResultSchema>;

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
