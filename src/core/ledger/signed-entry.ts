import type { Timestamp } from '../time';
import { signedBytes, type SignedPayload } from '../trust/dsse';
import type { RecordSigner, TrustedSigners } from '../trust/signer';
import { verifyMessage, type Verification } from '../trust/verify';
import { entryAfter, entryText, headAfter, type Entry, type Head, type SealedEntry } from './entry';

/** What is signed of an entry: its text without the signature, as the payload of DSSE (docs/ledger.md, "Signed entries"). */
const entryType = 'application/vnd.hod.ledger-entry.v1+json';

/**
 * Makes the entry that follows a head, and signs it.
 *
 * @param signer Undefined where entries are not signed.
 * @throws `signing-failed`
 */
export async function signedEntryAfter(
  head: Head,
  entry: Omit<Entry, 'seq' | 'previous' | 'signature'>,
  signer: RecordSigner | undefined,
): Promise<SealedEntry> {
  const signature = await signer?.sign(signedBytes(payloadOf(entryText(head, entry))));
  return entryAfter(head, { ...entry, signature });
}

/** Makes entries that follow a head and each other, and signs them, as {@link signedEntryAfter} does. */
export async function signedEntriesAfter(
  head: Head,
  entries: readonly Omit<Entry, 'seq' | 'previous' | 'signature'>[],
  signer: RecordSigner | undefined,
): Promise<SealedEntry[]> {
  const sealed: SealedEntry[] = [];
  for (const entry of entries) {
    const before = sealed.at(-1);
    sealed.push(await signedEntryAfter(before === undefined ? head : headAfter(before), entry, signer));
  }
  return sealed;
}

/**
 * Checks who signed an entry.
 *
 * @param at When it was made at the earliest, by the entries before it: its own time may be made up.
 * @returns Undefined where it is not signed.
 */
export function verifyEntry(
  { entry, text }: Pick<SealedEntry, 'entry' | 'text'>,
  trust: TrustedSigners,
  at: Timestamp = entry.at,
): Verification | undefined {
  const { signature } = entry;
  if (signature === undefined) {
    return undefined;
  }
  const end = `,"signature":${JSON.stringify(signature)}}`;
  if (!text.endsWith(end)) {
    return { problem: 'its signature does not stand at its end' };
  }
  const later = at > entry.at ? at : entry.at;
  const message = signedBytes(payloadOf(`${text.slice(0, -end.length)}}`));
  return verifyMessage(message, [{ signature: Buffer.from(signature, 'base64') }], trust, { at: later });
}

function payloadOf(text: string): SignedPayload {
  return { payloadType: entryType, payload: Buffer.from(text) };
}
