import { createPublicKey, verify, type KeyObject } from 'node:crypto';
import { sha256, shortDigest, type Digest } from '../oci/digest';
import { keyKinds, type KeyKind } from './trust-rules';

/** A public key that is strong enough. `der`: its SubjectPublicKeyInfo (RFC 5280 §4.1.2.7), base64. */
export interface PublicKey {
  readonly kind: KeyKind;
  readonly der: string;
}

/** The least size of an RSA key, in bits. */
const leastRsa = 2048;
/** Where the two numbers of an ECDSA signature stand one after the other, it has so many bytes (IEEE P1363). */
const plainSize: ReadonlyMap<KeyKind, number> = new Map([
  ['ECDSA P-256', 64],
  ['ECDSA P-384', 96],
]);

/** Reads a public key from PEM (RFC 7468 §13), or says why it does not count. */
export function readPublicKey(pem: string): { readonly key: PublicKey } | { readonly problem: string } {
  if (/-----BEGIN [A-Z ]*PRIVATE KEY-----/.test(pem)) {
    return { problem: 'it is a private key; only the public key belongs here' };
  }
  if (!pem.includes('-----BEGIN PUBLIC KEY-----')) {
    return { problem: 'it is not a public key in PEM (-----BEGIN PUBLIC KEY-----)' };
  }
  try {
    return checkedKey(createPublicKey(pem));
  } catch {
    return { problem: 'it is not a public key that can be read' };
  }
}

/** Returns a key that was read, or why it does not count: its kind is unknown, or it is weak. */
export function checkedKey(key: KeyObject): { readonly key: PublicKey } | { readonly problem: string } {
  const { asymmetricKeyType: type, asymmetricKeyDetails: { modulusLength = 0, namedCurve } = {} } = key;
  const der = key.export({ format: 'der', type: 'spki' }).toString('base64');
  switch (type) {
    case 'ed25519':
      return { key: { kind: 'Ed25519', der } };
    case 'rsa':
    case 'rsa-pss':
      return modulusLength < leastRsa
        ? { problem: `it is an RSA key of ${modulusLength} bits; ${leastRsa} are the least that counts` }
        : { key: { kind: 'RSA-PSS', der } };
    case 'ec':
      switch (namedCurve) {
        case 'prime256v1':
          return { key: { kind: 'ECDSA P-256', der } };
        case 'secp384r1':
          return { key: { kind: 'ECDSA P-384', der } };
        default:
          return { problem: `it is a key of the curve ${namedCurve ?? 'unknown'}; P-256 and P-384 count` };
      }
    default:
      return { problem: `it is a key of the kind ${type ?? 'unknown'}; ${keyKinds.join(', ')} count` };
  }
}

/** Returns the digest of a public key, by which people and logs name it. */
export function keyDigest({ der }: Pick<PublicKey, 'der'>): Digest {
  return sha256(Buffer.from(der, 'base64'));
}

/** Returns the name of a key in messages: its kind, and the beginning of its digest. */
export function describeKey(key: PublicKey): string {
  return `${key.kind} ${shortDigest(keyDigest(key))}`;
}

/** Keys that were read: a ledger has thousands of signatures of the same few. */
const keyObjects = new WeakMap<PublicKey, KeyObject>();

function keyObject(key: PublicKey): KeyObject {
  const known = keyObjects.get(key);
  const object = known ?? createPublicKey({ key: Buffer.from(key.der, 'base64'), format: 'der', type: 'spki' });
  keyObjects.set(key, object);
  return object;
}

/** Whether a key has signed a message. What is no signature at all was not made by it. */
export function hasSigned(key: PublicKey, message: Uint8Array, signature: Uint8Array): boolean {
  const object = keyObject(key);
  try {
    switch (key.kind) {
      case 'Ed25519':
        return verify(null, message, object, signature);
      case 'RSA-PSS':
        // RFC 8017 §8.1: whoever signs chooses the length of the salt.
        return verify('sha256', message, { key: object, padding: 6, saltLength: -2 }, signature);
      case 'ECDSA P-256':
      case 'ECDSA P-384': {
        const hash = key.kind === 'ECDSA P-256' ? 'sha256' : 'sha384';
        const isPlain = signature.length === plainSize.get(key.kind);
        return (
          (isPlain && verify(hash, message, { key: object, dsaEncoding: 'ieee-p1363' }, signature)) ||
          verify(hash, message, { key: object, dsaEncoding: 'der' }, signature)
        );
      }
    }
  } catch {
    return false;
  }
}
