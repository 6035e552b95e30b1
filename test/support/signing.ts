import { execFileSync } from 'node:child_process';
import { constants, createPrivateKey, generateKeyPairSync, sign, type KeyObject } from 'node:crypto';
import { readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import type { RecordSigner } from '../../src/core/trust/signer';

/** What signs documents in tests: openssl, and code that shares nothing with Hod. */

export const openssl = (folder: string, ...args: string[]): string =>
  execFileSync('openssl', args, { cwd: folder, encoding: 'utf8', stdio: ['ignore', 'pipe', 'ignore'] });

const kinds = {
  ed25519: ['-algorithm', 'ed25519'],
  p256: ['-algorithm', 'EC', '-pkeyopt', 'ec_paramgen_curve:P-256'],
  p384: ['-algorithm', 'EC', '-pkeyopt', 'ec_paramgen_curve:P-384'],
  rsa: ['-algorithm', 'RSA', '-pkeyopt', 'rsa_keygen_bits:2048'],
  weak: ['-algorithm', 'RSA', '-pkeyopt', 'rsa_keygen_bits:1024'],
} as const;

/** Makes `NAME.key` and `NAME.pub.pem`. */
export function makeKey(folder: string, name: string, kind: keyof typeof kinds): KeyObject {
  openssl(folder, 'genpkey', ...kinds[kind], '-out', `${name}.key`);
  openssl(folder, 'pkey', '-in', `${name}.key`, '-pubout', '-out', `${name}.pub.pem`);
  return createPrivateKey(readFileSync(join(folder, `${name}.key`)));
}

/** Makes an authority: `NAME.key`, `NAME.pem`. */
export function makeAnchor(folder: string, name: string): void {
  const made = ['-newkey', 'ec', '-pkeyopt', 'ec_paramgen_curve:P-256', '-nodes', '-keyout', `${name}.key`];
  openssl(folder, 'req', '-x509', ...made, '-out', `${name}.pem`, '-subj', `/CN=${name}`, '-days', '2');
}

/** Makes a certificate for an address, `NAME.pem`, and answers its key. `more`: lines of its extensions; `days` may be negative. */
export function makeSigner(
  folder: string,
  name: string,
  {
    authority,
    email,
    more = [],
    days = 2,
  }: { authority: string; email: string; more?: readonly string[]; days?: number },
): KeyObject {
  const key = makeKey(folder, name, 'p256');
  writeFileSync(join(folder, `${name}.ext`), [`subjectAltName=email:${email}`, ...more].join('\n'));
  openssl(folder, 'req', '-new', '-key', `${name}.key`, '-out', `${name}.csr`, '-subj', `/CN=${name}`);
  const by = ['-CA', `${authority}.pem`, '-CAkey', `${authority}.key`, '-CAcreateserial'];
  const time = ['-days', String(days), '-extfile', `${name}.ext`];
  openssl(folder, 'x509', '-req', '-in', `${name}.csr`, ...by, ...time, '-out', `${name}.pem`);
  return key;
}

/** An in-toto statement about a digest. */
export function statementAbout(digest: string, more: Record<string, unknown> = {}): Record<string, unknown> {
  const [algorithm = '', hex = ''] = digest.split(':');
  return {
    _type: 'https://in-toto.io/Statement/v1',
    subject: [{ name: 'image', digest: { [algorithm]: hex } }],
    predicateType: 'https://skerry.test/built/v1',
    predicate: { builder: { id: 'https://ci.test/skerry' } },
    ...more,
  };
}

export const statementType = 'application/vnd.in-toto+json';

/** What DSSE signs. */
export function encodedForSigning(type: string, payload: string): Buffer {
  return Buffer.from(`DSSEv1 ${Buffer.byteLength(type)} ${type} ${Buffer.byteLength(payload)} ${payload}`);
}

/** Signs a text as its key does by its kind. */
export function signWith(key: KeyObject, message: Buffer): string {
  const isP384 = key.asymmetricKeyDetails?.namedCurve === 'secp384r1';
  const hash = key.asymmetricKeyType === 'ed25519' ? null : isP384 ? 'sha384' : 'sha256';
  const pss = { key, padding: constants.RSA_PKCS1_PSS_PADDING, saltLength: 32 };
  return sign(hash, message, key.asymmetricKeyType === 'rsa' ? pss : key).toString('base64');
}

/** An envelope with signatures over it. */
export function envelopeOf(
  document: object | string,
  keys: readonly KeyObject[],
  { type = statementType, more = {} }: { type?: string; more?: Record<string, unknown> } = {},
): Record<string, unknown> {
  const payload = typeof document === 'string' ? document : JSON.stringify(document);
  const signed = encodedForSigning(type, payload);
  return {
    payloadType: type,
    payload: Buffer.from(payload).toString('base64'),
    signatures: keys.map((key) => ({ keyid: 'build', sig: signWith(key, signed), ...more })),
  };
}

/** Signs as a run of Hod does, with a key of its own that is trusted under a name. */
export function signerFor(name: string): RecordSigner {
  const { publicKey, privateKey } = generateKeyPairSync('ed25519');
  const der = publicKey.export({ format: 'der', type: 'spki' }).toString('base64');
  return {
    trust: { keys: [{ name, kind: 'Ed25519', der }], authorities: [] },
    prepare: () => Promise.resolve(),
    sign: (message) => Promise.resolve(sign(null, message, privateKey).toString('base64')),
  };
}
