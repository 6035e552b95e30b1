import type { SealedEntry } from '../core/ledger/entry';
import { stateKey } from '../core/ledger/facts';
import { verifyEntry } from '../core/ledger/signed-entry';
import { proveSignatures, stepsOf, type SignedProof } from '../core/insight/signed-proof';
import type { Proven } from '../core/insight/proof';
import type { TrustedSigners } from '../core/trust/signer';
import { timestampOf } from '../core/time';
import type { Ledger } from '../ledger/ledger';
import { readSignatures } from '../ledger/signed-head';
import { settleAll } from '../system/promises';

/** Checks who published and promoted what is served, by the signatures in the ledger and under release records. */
export async function proveBySignatures(
  all: readonly Proven[],
  { product, trust, ledger }: { readonly product: string; readonly trust: TrustedSigners; readonly ledger: Ledger },
): Promise<SignedProof[]> {
  const since = (await ledger.read([])).facts.get('state', stateKey.key)?.signedSince;
  const seqs = [...new Set(all.flatMap(stepsOf).map(({ seq }) => seq))];
  const found = await settleAll(seqs.map((seq) => entryAt(seq, ledger)));
  const entries = new Map(
    found.flatMap((sealed) => (sealed === undefined ? [] : [[sealed.entry.seq, sealed] as const])),
  );
  // A key that counts now counted then, too. Else all entries tell whether it did, and whether somebody accepted them later.
  const now = timestampOf(new Date());
  const isWhole = [...entries.values()].every(
    (sealed) => since === undefined || sealed.entry.seq < since || verifyEntry(sealed, trust, now)?.by !== undefined,
  );
  const unsigned = isWhole ? [] : (await readSignatures(ledger, trust)).unsigned;
  const known = { product, trust, since, entryOf: (seq: number) => entries.get(seq), unsigned };
  return all.map((each) => proveSignatures(each, known));
}

async function entryAt(seq: number, ledger: Pick<Ledger, 'entries'>): Promise<SealedEntry | undefined> {
  for await (const sealed of ledger.entries({ seq: seq - 1, hash: undefined })) {
    return sealed;
  }
  return undefined;
}
