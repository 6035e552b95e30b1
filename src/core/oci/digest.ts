import { createHash } from 'node:crypto';
import * as z from 'zod';

declare const digestBrand: unique symbol;

/**
 * A content identifier, `algorithm:hex`, known to be well formed
 * (OCI image specification, descriptor.md, "Digests"; the registered algorithms only).
 */
export type Digest = string & { readonly [digestBrand]: true };

/** A digest of any algorithm (OCI image specification, descriptor.md, "Digests"). */
const wellFormed = /^([a-z0-9]+(?:[+._-][a-z0-9]+)*):[a-zA-Z0-9=_-]+$/;
const grammar = /^(?:sha256:[a-f0-9]{64}|sha512:[a-f0-9]{128})$/;

/** Whether `text` is a digest of a registered algorithm. */
export function isDigest(text: string): text is Digest {
  return grammar.test(text);
}

/** A digest at an edge: JSON that came from outside. */
export const digestSchema = z.custom<Digest>((value) => typeof value === 'string' && isDigest(value), {
  error: ({ input }) => {
    const [, algorithm = 'sha256'] = typeof input === 'string' ? (wellFormed.exec(input) ?? []) : [];
    return ['sha256', 'sha512'].includes(algorithm)
      ? 'must be a digest (sha256:… or sha512:…)'
      : `the digest algorithm ${algorithm} is not a registered one (sha256, sha512)`;
  },
});

/** Computes a digest from bytes that arrive in pieces, here or elsewhere. */
export interface DigestHasher {
  /** Takes bytes; they may be changed once it has. */
  update(bytes: Uint8Array): void | Promise<void>;
  /** Ends the computation. May be called once. */
  digest(): Digest | Promise<Digest>;
}

/** A hasher that has its result at once. */
export interface DirectHasher extends DigestHasher {
  update(bytes: Uint8Array): void;
  digest(): Digest;
}

/** A hasher for the algorithm that `like` names; SHA-256 where it is not given. */
export function digestHasher(like?: Digest): DirectHasher {
  const algorithm = like === undefined ? 'sha256' : algorithmOf(like);
  const hash = createHash(algorithm);
  return {
    update: (bytes) => void hash.update(bytes),
    digest: () => digestFrom(algorithm, hash.digest('hex')),
  };
}

/** The SHA-256 digest of some bytes. */
export function sha256(bytes: Uint8Array | string): Digest {
  return digestFrom('sha256', createHash('sha256').update(bytes).digest('hex'));
}

/** The algorithm of a digest. */
export function algorithmOf(digest: Digest): 'sha256' | 'sha512' {
  return digest.startsWith('sha512:') ? 'sha512' : 'sha256';
}

/** The digest of hex digits, by the algorithm of another. */
export function digestFromHex(hex: string, like: Digest): Digest {
  return digestFrom(algorithmOf(like), hex);
}

function digestFrom(algorithm: 'sha256' | 'sha512', hex: string): Digest {
  const digest = `${algorithm}:${hex}`;
  if (!isDigest(digest)) {
    throw new Error(`${digest} is not a digest`);
  }
  return digest;
}

/** The digest of some bytes, by the algorithm of another. */
export function digestLike(bytes: Uint8Array, like: Digest): Digest {
  const hasher = digestHasher(like);
  hasher.update(bytes);
  return hasher.digest();
}

/** Whether `bytes` are the content that `digest` identifies. */
export function matchesDigest(bytes: Uint8Array, digest: Digest): boolean {
  return digestLike(bytes, digest) === digest;
}

/** Whether two digests are of one algorithm, and can be compared. */
export function isSameAlgorithm(one: Digest, other: Digest): boolean {
  return algorithmOf(one) === algorithmOf(other);
}

/** Whether a text is a digest, or the digits that it begins with. */
export function isMeantBy(text: string, digest: Digest): boolean {
  const digits = digitsOf(text);
  return text.includes(':') && digits.length >= 64 ? digest === text : digitsOf(digest).startsWith(digits);
}

/** The hexadecimal digits of a digest, or of the beginning of one; where no algorithm is named, all of it. */
export function digitsOf(digest: string): string {
  return digest.slice(digest.indexOf(':') + 1);
}

/** The algorithm and the first twelve digits: enough for a person to tell digests apart. */
export function shortDigest(digest: string): string {
  const colon = digest.indexOf(':');
  return digest.slice(0, colon + 1 + 12);
}
