import { createLocalJWKSet, decodeProtectedHeader, errors, jwtVerify } from 'jose';
import * as z from 'zod';
import type { Timestamp } from '../time';
import { matchesText } from './text-pattern';
import type { TrustedIssuer } from './trust-rules';

/** A job, by the token that its issuer signed; or why it is not known who the job is. */
export type JobIdentity =
  | { readonly subject: string; readonly problem?: undefined }
  | { readonly subject?: undefined; readonly problem: string };

/** The algorithms that count (RFC 7518 §3.1, RFC 8037 §3.1): a signature by a public key; neither `none` nor a shared secret. */
const algorithms = ['ES256', 'ES384', 'PS256', 'PS384', 'PS512', 'RS256', 'RS384', 'RS512', 'EdDSA', 'Ed25519'];
/** Clocks of machines differ by as much, in seconds. */
const clockTolerance = 60;

/** A set of keys (RFC 7517 §5). Keys in it that cannot be used are passed over. */
export const keySetSchema = z.object({ keys: z.array(z.looseObject({ kty: z.string() })) });
type KeySet = z.infer<typeof keySetSchema>;

/**
 * Checks the identity token of a job (RFC 7519) with the keys that its issuer publishes.
 *
 * @param now When it must be valid.
 */
export async function verifyJobToken(
  token: string,
  keys: KeySet,
  issuer: TrustedIssuer,
  now: Timestamp,
): Promise<JobIdentity> {
  try {
    const { payload } = await jwtVerify(token, createLocalJWKSet(keys), {
      algorithms,
      issuer: issuer.url,
      audience: issuer.audience,
      requiredClaims: ['exp', 'sub'],
      clockTolerance,
      currentDate: new Date(now),
    });
    const { sub: subject = '', iat } = payload;
    if (iat !== undefined && iat * 1000 > Date.parse(now) + clockTolerance * 1000) {
      return { problem: `it was issued at ${moment(iat)}, in the future: check the clock of this machine` };
    }
    return issuer.subjects.some((pattern) => matchesText(pattern, subject))
      ? { subject }
      : { problem: `it is of ${subject}; \`subject:\` names ${issuer.subjects.join(' or ')}` };
  } catch (error) {
    return { problem: explain(error, token, issuer) };
  }
}

function explain(error: unknown, token: string, { url, audience }: TrustedIssuer): string {
  if (error instanceof errors.JWTExpired) {
    const { exp } = error.payload;
    return `it expired${exp === undefined ? '' : ` at ${moment(exp)}`}: let the job ask for it right before hod runs, and check the clock of this machine`;
  }
  if (error instanceof errors.JWTClaimValidationFailed) {
    const { aud, iss } = error.payload;
    switch (error.claim) {
      case 'aud':
        return `it is meant for ${[aud ?? 'nobody'].flat().join(', ')}, not for ${audience}`;
      case 'iss':
        return `it is issued by ${iss ?? 'nobody'}, not by ${url}`;
      case 'nbf':
        return 'it is not valid yet: check the clock of this machine';
      default:
        return `its claim ${error.claim} is missing, or wrong`;
    }
  }
  if (error instanceof errors.JOSEAlgNotAllowed) {
    return `its algorithm does not count: ${algorithmOf(token)}`;
  }
  if (error instanceof errors.JWKSNoMatchingKey || error instanceof errors.JWSSignatureVerificationFailed) {
    return `no key that ${url} publishes has signed it`;
  }
  return 'it is not a JSON Web Token that can be checked';
}

function algorithmOf(token: string): string {
  try {
    return decodeProtectedHeader(token).alg ?? 'none';
  } catch {
    return 'none';
  }
}

function moment(seconds: number): string {
  const date = new Date(seconds * 1000);
  return Number.isNaN(date.getTime()) ? String(seconds) : date.toISOString();
}
