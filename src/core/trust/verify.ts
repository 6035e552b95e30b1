import type { Timestamp } from '../time';
import { formatMoment } from '../amounts';
import { keyUnder, readCertificates } from './certificates';
import { signedBytes, type Envelope, type EnvelopeSignature } from './dsse';
import { describeKey, hasSigned } from './public-key';
import type { TrustedSigners } from './signer';
import type { TrustedAuthority, TrustedKey } from './trust-rules';

/** Who signed something, as `trust:` names them; or why nobody that is trusted did. */
export type Verification =
  | { readonly by: string; readonly key: string; readonly problem?: undefined }
  | { readonly by?: undefined; readonly problem: string };

/**
 * Checks who signed an envelope. The key decides how: nothing in the envelope chooses an algorithm or a key (no algorithm
 * `none`, no confusion of one with another).
 *
 * @param names The signers that count; all that are trusted where undefined.
 * @param at When it was signed, as far as that is known: keys and certificates must have been valid then.
 */
export function verifyEnvelope(
  envelope: Envelope,
  trust: TrustedSigners,
  { names, at }: { readonly names?: readonly string[] | undefined; readonly at: Timestamp },
): Verification {
  return verifyMessage(signedBytes(envelope), envelope.signatures, trust, { names, at });
}

/** Checks who signed a message, as {@link verifyEnvelope} does. */
export function verifyMessage(
  message: Uint8Array,
  signatures: readonly EnvelopeSignature[],
  trust: TrustedSigners,
  { names, at }: { readonly names?: readonly string[] | undefined; readonly at: Timestamp },
): Verification {
  const counts = ({ name }: { readonly name: string }): boolean => names === undefined || names.includes(name);
  const keys = trust.keys.filter(counts);
  const authorities = trust.authorities.filter(counts);
  const problems: string[] = [];
  for (const signature of signatures) {
    const found = [
      ...keys.map((key) => signedByKey(key, message, signature, at)),
      ...authorities.map((authority) => signedUnder(authority, message, signature, at)),
    ].filter((each) => each !== undefined);
    const verified = found.find(({ by }) => by !== undefined);
    if (verified !== undefined) {
      return verified;
    }
    problems.push(...found.flatMap(({ problem }) => problem ?? []));
  }
  const [problem = `it is not signed by ${(names ?? []).join(' or ') || 'anybody who is trusted'}`] = problems;
  return { problem };
}

/** Undefined where the key did not sign it. */
function signedByKey(
  key: TrustedKey,
  message: Uint8Array,
  { signature }: EnvelopeSignature,
  at: Timestamp,
): Verification | undefined {
  if (!hasSigned(key, message, signature)) {
    return undefined;
  }
  const problem = problemOfKeyTime(key, at);
  return problem === undefined ? { by: key.name, key: describeKey(key) } : { problem };
}

/** Why a key does not count at a time; undefined where it does. */
function problemOfKeyTime(key: TrustedKey, at: Timestamp): string | undefined {
  const { name, from, until } = key;
  if (until !== undefined && Date.parse(at) >= Date.parse(until)) {
    return `the signing key of ${name} (${describeKey(key)}) expired on ${formatMoment(until)}`;
  }
  return from !== undefined && Date.parse(at) < Date.parse(from)
    ? `the signing key of ${name} (${describeKey(key)}) is not valid before ${formatMoment(from)}`
    : undefined;
}

/** Undefined where no certificate of this authority is with the signature. */
function signedUnder(
  { name, certificates, names }: TrustedAuthority,
  message: Uint8Array,
  { signature, certificates: given }: EnvelopeSignature,
  at: Timestamp,
): Verification | undefined {
  const [anchors, chain] = [readCertificates(certificates), given === undefined ? undefined : readCertificates(given)];
  if (chain === undefined || 'problem' in anchors) {
    return undefined;
  }
  const found = 'problem' in chain ? chain : keyUnder({ ...anchors, names }, chain.certificates, at);
  if ('problem' in found) {
    return { problem: `${name}: ${found.problem}` };
  }
  return hasSigned(found.key, message, signature)
    ? { by: name, key: `${found.name}, ${describeKey(found.key)}` }
    : { problem: `${name}: the signature was not made with the key of the certificate` };
}
