import picomatch from 'picomatch';
import type { LayerMember } from './layer-tree';

/** What somebody should look at in an image. */
export const concerns = ['secret', 'set-uid', 'set-gid', 'writable-by-all', 'leads-out'] as const;
/** See {@link concerns}. */
export type Concern = (typeof concerns)[number];

/** What keeps an image from passing a check: a key or login that is shipped, and programs that run with the rights of others. */
const failing: readonly Concern[] = ['secret', 'set-uid', 'set-gid', 'leads-out'];

/**
 * Whether a concern keeps an image from passing a check.
 *
 * @param allowed Patterns of paths that somebody looked at and lets pass.
 */
export function fails({ concern, path }: { concern: Concern; path: string }, allowed: readonly string[]): boolean {
  return failing.includes(concern) && !picomatch.isMatch(path, [...allowed], { dot: true });
}

/** Names that files with logins and keys have, whatever is in them. */
const secretNames =
  /(^|\/)(\.netrc|\.pgpass|\.npmrc|\.pypirc|\.git-credentials|\.htpasswd|id_(rsa|dsa|ecdsa|ed25519)|\.docker\/config\.json|\.aws\/credentials|\.kube\/config|\.env(\.(local|production|prod))?|[^/]+\.(p12|pfx|jks|keystore|kdbx|ppk))$/i;
/** How private keys begin (RFC 7468 §10, §11, and their older forms). */
const keyBegins = /-----BEGIN (?:[A-Z0-9]+ )*PRIVATE KEY(?: BLOCK)?-----/;

/** Bytes of a file that are looked at for a key. */
export const lookedAt = 4096;

/** Whether a file is one that holds a secret, by its name or by how it begins. */
export function looksSecret(path: string, beginning: Buffer): boolean {
  // To look for the fixed part first takes a tenth of the time.
  return secretNames.test(path) || (beginning.includes('-----BEGIN ') && keyBegins.test(beginning.toString('latin1')));
}

/** What is to be looked at because of the rights that something has. */
export function concernsOf({ kind, mode }: Pick<LayerMember, 'kind' | 'mode'>): Concern[] {
  const isFile = kind === 'file' || kind === 'hardlink';
  const sticky = (mode & 0o1000) !== 0;
  return [
    ...(isFile && (mode & 0o4000) !== 0 ? (['set-uid'] as const) : []),
    ...(isFile && (mode & 0o2000) !== 0 ? (['set-gid'] as const) : []),
    ...((mode & 0o002) !== 0 && (kind === 'file' || (kind === 'folder' && !sticky))
      ? (['writable-by-all'] as const)
      : []),
  ];
}
