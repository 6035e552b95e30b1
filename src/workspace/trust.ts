import { relative } from 'node:path';
import { HodError, messageOf } from '../core/errors';
import { readCertificates } from '../core/trust/certificates';
import { readPeople } from '../core/trust/people';
import { readPublicKey } from '../core/trust/public-key';
import type { TrustedSigners } from '../core/trust/signer';
import { trustsNobody, type TrustedIssuer, type TrustRules } from '../core/trust/trust-rules';
import { readSmallFile } from '../system/plain-files';
import type { Config } from './config';

/**
 * Reads whom hod.yaml trusts, from the files that it names; undefined where it does not say.
 *
 * @throws `trust-unusable` for a file that is missing, or holds a key that does not count.
 */
export async function readTrust({ trust, folder }: Pick<Config, 'trust' | 'folder'>): Promise<TrustRules | undefined> {
  if (trust === undefined) {
    return undefined;
  }
  const read = async <T extends object>(
    file: string,
    place: string,
    parse: (text: string) => T | { readonly problem: string },
  ): Promise<T> => {
    const parsed = parse(await textOf(file, place, folder));
    if ('problem' in parsed) {
      throw unusable(file, place, folder, parsed.problem);
    }
    return parsed;
  };
  const byName = (a: { readonly name: string }, b: { readonly name: string }): number => (a.name < b.name ? -1 : 1);
  const [keys, authorities, people] = await Promise.all([
    Promise.all(
      trust.keys.map(async ({ name, file, from, until }) => {
        return { name, ...(await read(file, `keys.${name}`, readPublicKey)).key, from, until };
      }),
    ),
    Promise.all(
      trust.authorities.map(async ({ name, file, names }) => {
        const { certificates } = await read(file, `authorities.${name}`, anchorsIn);
        return { name, certificates, names };
      }),
    ),
    trust.people === undefined ? undefined : read(trust.people, 'people', readPeople),
  ]);
  return {
    keys: keys.sort(byName),
    authorities: authorities.sort(byName),
    ...(trust.issuers.length === 0 ? {} : { issuers: trust.issuers.map(withoutToken).sort(byName) }),
    people: people?.lines ?? [],
  };
}

/** Where the token of a job stands is no rule. */
function withoutToken({ name, url, audience, subjects }: TrustedIssuer): TrustedIssuer {
  return { name, url, audience, subjects };
}

/** Reads the keys and authorities that hod.yaml trusts; none where it does not say. Throws `trust-unusable`. */
export async function readTrustedSigners(config: Pick<Config, 'trust' | 'folder'>): Promise<TrustedSigners> {
  return (await readTrust(config)) ?? trustsNobody;
}

/** Reads the certificates of an authority, each of which must count. */
function anchorsIn(text: string): { readonly certificates: string } | { readonly problem: string } {
  const found = readCertificates(text);
  if ('problem' in found) {
    return found;
  }
  for (const { x509, key, problem } of found.certificates) {
    const why = problem ?? ('problem' in key ? key.problem : x509.ca ? undefined : 'it is not of an authority (CA)');
    if (why !== undefined) {
      return { problem: `the certificate of ${x509.subject.replaceAll('\n', ', ')}: ${why}` };
    }
  }
  return { certificates: found.certificates.map(({ x509 }) => x509.toString().trim()).join('\n') };
}

async function textOf(file: string, place: string, folder: string): Promise<string> {
  try {
    return (await readSmallFile(file)).toString('utf8');
  } catch (error) {
    throw unusable(file, place, folder, error instanceof HodError ? String(error.problem.why) : messageOf(error));
  }
}

function unusable(file: string, place: string, folder: string, why: string): HodError {
  return new HodError('trust-unusable', {
    what: 'a file of `trust:` cannot be used',
    object: `trust.${place}: ${relative(folder, file)}`,
    why,
    next: 'correct the file, or name another one in hod.yaml; `hod config check` says when it is valid',
  });
}
