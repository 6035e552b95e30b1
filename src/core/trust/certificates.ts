import { formatMoment } from '../amounts';
import { X509Certificate } from 'node:crypto';
import type { Timestamp } from '../time';
import { readDer, readOid, type DerElement } from './der';
import { checkedKey, type PublicKey } from './public-key';

/** A certificate, and what of it decides whether it counts (RFC 5280 §4). */
export interface Certificate {
  readonly x509: X509Certificate;
  readonly key: PublicKey | { readonly problem: string };
  /** Why it counts in no chain; undefined where it may. */
  readonly problem: string | undefined;
  /** How many certificates of authorities may stand below it; undefined where it does not say. */
  readonly pathLength: number | undefined;
  /** Whether its key may sign documents. */
  readonly maySign: boolean;
}

/** Signature algorithms that count; SHA-1 and MD5 are not among them (RFC 4055, 5758, 8410). */
const soundSignatures: ReadonlySet<string> = new Set([
  '1.2.840.113549.1.1.10',
  '1.2.840.113549.1.1.11',
  '1.2.840.113549.1.1.12',
  '1.2.840.113549.1.1.13',
  '1.2.840.10045.4.3.2',
  '1.2.840.10045.4.3.3',
  '1.2.840.10045.4.3.4',
  '1.3.101.112',
]);

const extensions = {
  keyUsage: '2.5.29.15',
  alternativeName: '2.5.29.17',
  basicConstraints: '2.5.29.19',
  policies: '2.5.29.32',
  authorityKey: '2.5.29.35',
  extendedKeyUsage: '2.5.29.37',
  subjectKey: '2.5.29.14',
} as const;
/** Uses that allow a key to sign documents: code signing, or any. */
const signingUses = ['1.3.6.1.5.5.7.3.3', '2.5.29.37.0'];
const tags = {
  boolean: 0x01,
  integer: 0x02,
  bitString: 0x03,
  octets: 0x04,
  oid: 0x06,
  sequence: 0x30,
  extensions: 0xa3,
};
/**
 * Authorities issue no longer chain; each certificate costs a check.
 * @limit certificates from a key to its authority | certificates | the certificate does not count
 */
const longestChain = 8;

/** Reads all certificates of a PEM file, or says why they cannot be read. */
export function readCertificates(
  pem: string,
): { readonly certificates: readonly Certificate[] } | { readonly problem: string } {
  const texts = pem.match(/-----BEGIN CERTIFICATE-----[^-]+-----END CERTIFICATE-----/g) ?? [];
  if (texts.length === 0 || texts.length > longestChain * 4) {
    return { problem: texts.length === 0 ? 'it holds no certificate in PEM' : 'it holds too many certificates' };
  }
  try {
    return { certificates: texts.map((text) => describeCertificate(new X509Certificate(text))) };
  } catch {
    return { problem: 'it holds a certificate that cannot be read' };
  }
}

function describeCertificate(x509: X509Certificate): Certificate {
  const parts = partsOf(x509.raw);
  const checked = checkedKey(x509.publicKey);
  const key = 'key' in checked ? checked.key : checked;
  if (parts === undefined) {
    return { x509, key, problem: 'its form is unknown', pathLength: undefined, maySign: false };
  }
  const known: readonly string[] = Object.values(extensions);
  const unknown = parts.extensions.find(({ oid, critical }) => critical && !known.includes(oid));
  const valueOf = (oid: string): DerElement | undefined =>
    parts.extensions.find((each) => each.oid === oid && each.value !== undefined)?.value;
  const problem = !soundSignatures.has(parts.signature)
    ? 'it is signed with a weak or unknown algorithm'
    : unknown !== undefined
      ? `it has a constraint (${unknown.oid}) that Hod cannot check`
      : undefined;
  const uses = readDer(valueOf(extensions.extendedKeyUsage)?.content ?? new Uint8Array()) ?? [];
  const usage = valueOf(extensions.keyUsage)?.content;
  const maySign =
    // The first bit of the usage: digitalSignature.
    (usage === undefined || ((usage[1] ?? 0) & 0x80) !== 0) &&
    (uses.length === 0 || uses.some(({ content }) => signingUses.includes(readOid(content))));
  const constraints = readDer(valueOf(extensions.basicConstraints)?.content ?? new Uint8Array()) ?? [];
  const path = constraints.find(({ tag }) => tag === tags.integer);
  const pathLength = path?.content.reduce((sum, byte) => sum * 256 + byte, 0);
  return { x509, key, problem, pathLength, maySign };
}

interface CertificateParts {
  readonly signature: string;
  readonly extensions: readonly {
    readonly oid: string;
    readonly critical: boolean;
    readonly value: DerElement | undefined;
  }[];
}

/** The parts of a certificate that Node.js does not tell. */
function partsOf(raw: Uint8Array): CertificateParts | undefined {
  const inside = (element: DerElement | undefined): readonly DerElement[] =>
    element === undefined ? [] : (readDer(element.content) ?? []);
  const [certificate] = readDer(raw) ?? [];
  const [content, algorithm] = inside(certificate);
  const [oid] = inside(algorithm);
  if (content === undefined || oid?.tag !== tags.oid) {
    return undefined;
  }
  const [list] = inside(inside(content).find(({ tag }) => tag === tags.extensions));
  return {
    signature: readOid(oid.content),
    extensions: inside(list).map((extension) => {
      const parts = inside(extension);
      const named = parts.find(({ tag }) => tag === tags.oid);
      const [value] = inside(parts.find(({ tag }) => tag === tags.octets));
      const critical = parts.some(({ tag, content: flag }) => tag === tags.boolean && flag[0] !== 0);
      return { oid: named === undefined ? '' : readOid(named.content), critical, value };
    }),
  };
}

/** The certificates of an authority, and the names that it vouches for here. */
export interface Authority {
  readonly certificates: readonly Certificate[];
  readonly names: readonly string[];
}

/**
 * Finds the key of a signer whose certificate leads to an authority (RFC 5280 §6.1, as far as it has to do with signing: times,
 * names, constraints on paths; nobody is asked about certificates that were withdrawn).
 *
 * @param given The signer's certificate, and those between it and the authority.
 * @returns The key and the name that counts, or why there is none.
 */
export function keyUnder(
  authority: Authority,
  given: readonly Certificate[],
  at: Timestamp,
): { readonly key: PublicKey; readonly name: string } | { readonly problem: string } {
  const [signer, ...between] = given;
  if (signer === undefined) {
    return { problem: 'no certificate is with it' };
  }
  if ('problem' in signer.key) {
    return { problem: `the signer's key: ${signer.key.problem}` };
  }
  if (!signer.maySign || signer.x509.ca) {
    return { problem: "the signer's certificate is not for signing documents" };
  }
  const name = authority.names.find((each) => isNamed(signer.x509, each));
  if (name === undefined) {
    return {
      problem: `the signer's certificate is of ${namesOf(signer.x509)}; expected: ${authority.names.join(', ')}`,
    };
  }
  const problem = problemOfChain(signer, between, authority.certificates, at);
  return problem === undefined ? { key: signer.key, name } : { problem };
}

/** Why certificates do not lead to an authority; undefined where they do. */
function problemOfChain(
  signer: Certificate,
  between: readonly Certificate[],
  anchors: readonly Certificate[],
  at: Timestamp,
): string | undefined {
  let current = signer;
  for (let below = 0; below < longestChain; below += 1) {
    const problem = current.problem ?? problemOfTime(current.x509, at);
    if (problem !== undefined) {
      return `${subjectOf(current.x509)}: ${problem}`;
    }
    const isIssuer = (each: Certificate): boolean => isIssuedBy(current, each, below);
    const anchor = anchors.find(isIssuer);
    if (anchor !== undefined) {
      const late = anchor.problem ?? problemOfTime(anchor.x509, at);
      return late === undefined ? undefined : `${subjectOf(anchor.x509)}: ${late}`;
    }
    const next = between.find((each) => each !== current && isIssuer(each));
    if (next === undefined) {
      return 'its certificates do not lead to this authority';
    }
    current = next;
  }
  return 'its certificates do not lead to this authority';
}

/** @param below How many certificates of authorities stand below the issuer. */
function isIssuedBy({ x509 }: Certificate, issuer: Certificate, below: number): boolean {
  return (
    issuer.x509.ca &&
    !('problem' in issuer.key) &&
    (issuer.pathLength === undefined || issuer.pathLength >= below) &&
    x509.checkIssued(issuer.x509) &&
    x509.verify(issuer.x509.publicKey)
  );
}

function momentOf(milliseconds: number): string {
  return formatMoment(new Date(milliseconds).toISOString());
}

/** Why a certificate does not count at a time; undefined where it does. */
function problemOfTime({ validFrom, validTo }: X509Certificate, at: Timestamp): string | undefined {
  const [from, to, then] = [Date.parse(validFrom), Date.parse(validTo), Date.parse(at)];
  if (then < from) {
    return `the certificate is valid from ${momentOf(from)}, and the signature is of ${formatMoment(at)}`;
  }
  return then > to ? `the certificate expired on ${momentOf(to)}` : undefined;
}

/** Whether a certificate is of a name: a mail address, a host, or a URI, among its alternative names. */
function isNamed(x509: X509Certificate, name: string): boolean {
  if (name.includes('://')) {
    return (x509.subjectAltName ?? '').split(', ').includes(`URI:${name}`);
  }
  return name.includes('@')
    ? x509.checkEmail(name, { subject: 'never' }) !== undefined
    : x509.checkHost(name, { subject: 'never', wildcards: false }) !== undefined;
}

function namesOf({ subjectAltName }: X509Certificate): string {
  return subjectAltName ?? 'no name';
}

function subjectOf({ subject }: X509Certificate): string {
  return subject.replaceAll('\n', ', ');
}
