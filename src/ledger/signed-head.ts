import type { Action } from '../core/ledger/entries';
import { HodError } from '../core/errors';
import { stateKey } from '../core/ledger/facts';
import { verifyEntry } from '../core/ledger/signed-entry';
import type { SealedEntry } from '../core/ledger/entry';
import { SignatureCheck, type Signatures } from '../core/ledger/signatures';
import { timestampOf } from '../core/time';
import type { RecordSigner, TrustedSigners } from '../core/trust/signer';
import type { Ledger, LedgerState } from './ledger';

/**
 * Checks that the last entry of a signed ledger is signed by somebody who is trusted: who signs an entry vouches for all before it,
 * whose hashes it holds.
 *
 * @param actions What is to be written; unsigned entries may be accepted.
 * @throws `ledger-unsigned`, also where nothing signs in this run.
 */
export async function checkSignedHead(
  ledger: Pick<Ledger, 'entries'>,
  { head, facts }: LedgerState,
  signer: RecordSigner | undefined,
  actions: readonly Action[],
): Promise<void> {
  const since = facts.get('state', stateKey.key)?.signedSince;
  if (since === undefined || actions.some(({ kind }) => kind === 'entries-accepted')) {
    return;
  }
  if (signer === undefined) {
    throw unsigned({
      what: 'this ledger is signed, and this run signs nothing',
      object: `the ledger, since entry ${since}`,
      why: 'hod.yaml names no key to sign with',
      next: 'name the key with `sign:` in hod.yaml, and run the command again; nothing was written',
    });
  }
  for await (const sealed of ledger.entries({ seq: head.seq - 1, hash: undefined })) {
    const problem = await problemOf(sealed, signer.trust, ledger);
    if (problem !== undefined) {
      const { at, actor, action } = sealed.entry;
      throw unsigned({
        what: 'the last entry of the ledger is not signed by a trusted key',
        object: `entry ${sealed.entry.seq}: ${action.kind}, ${actor}, ${at}`,
        why: problem,
        next: '`hod ledger verify` lists all such entries; where they are right, `hod ledger accept --reason "…"` accepts them. Nothing was written',
      });
    }
  }
}

/**
 * Why the last entry does not count; undefined where it does. A key that expired may have signed it in its time: that is told by the
 * entries before it, not by what it says of itself.
 */
async function problemOf(
  sealed: SealedEntry,
  trust: TrustedSigners,
  ledger: Pick<Ledger, 'entries'>,
): Promise<string | undefined> {
  if (verifyEntry(sealed, trust, timestampOf(new Date()))?.by !== undefined) {
    return undefined;
  }
  const { unsigned } = await readSignatures(ledger, trust);
  return unsigned.find(({ to }) => to === sealed.entry.seq)?.problem;
}

/** Checks who signed the entries of a ledger, from the first to the last. */
export async function readSignatures(ledger: Pick<Ledger, 'entries'>, trust: TrustedSigners): Promise<Signatures> {
  const check = new SignatureCheck(trust);
  for await (const sealed of ledger.entries()) {
    check.add(sealed);
  }
  return check.found;
}

function unsigned(problem: { what: string; object: string; why: string; next: string }): HodError {
  return new HodError('ledger-unsigned', problem);
}
