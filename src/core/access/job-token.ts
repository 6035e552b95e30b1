import { decodeJwt } from 'jose';
import * as z from 'zod';
import { HodError } from '../errors';
import { asOneLine } from '../text';

/** What a job's identity token says of itself (RFC 7519 §4.1). Read without checking the signature, for messages only. */
export interface JobClaims {
  issuer: string | undefined;
  subject: string | undefined;
  audiences: string[];
  /** Seconds since 1970. */
  expires: number | undefined;
}

const claimsSchema = z.object({
  iss: z.string().optional(),
  sub: z.string().optional(),
  aud: z.union([z.string(), z.array(z.string())]).optional(),
  exp: z.number().optional(),
});

/** Reads the claims of a token; undefined where it is not a JSON Web Token. */
export function readJobClaims(token: string): JobClaims | undefined {
  try {
    const { iss, sub, aud, exp } = claimsSchema.parse(decodeJwt(token));
    return { issuer: iss, subject: sub, audiences: [aud ?? []].flat(), expires: exp };
  } catch {
    return undefined;
  }
}

/** The error answer of a token service (RFC 6749 §5.2, RFC 8693 §2.2.2). */
export const exchangeErrorSchema = z.object({ error: z.string(), error_description: z.string().optional() });

/** Other services say it under this key. */
export const exchangeMessageSchema = z.object({ message: z.string() });

/** What a job's identity is used for, for messages. */
export interface ExchangePurpose {
  registry: string;
  /** The token service. */
  service: string;
  /** The audience that the token service expects; undefined where hod.yaml does not say. */
  audience: string | undefined;
}

type IdentityCode =
  | 'identity-malformed'
  | 'identity-expired'
  | 'identity-other-audience'
  | 'identity-without-rule'
  | 'identity-untrusted'
  | 'identity-refused';

function notAccepted(code: IdentityCode, registry: string, why: string, next: string): HodError {
  return new HodError(code, { what: 'the identity of this job was not accepted', object: registry, why, next });
}

/** Why a token need not be sent, because it cannot be accepted; undefined where it may be. `now` is in seconds since 1970. */
export function explainUnusable(
  token: string,
  { registry, audience }: ExchangePurpose,
  now: number,
): HodError | undefined {
  const claims = readJobClaims(token);
  if (claims === undefined) {
    const next = 'look at where hod.yaml takes the token from';
    return notAccepted('identity-malformed', registry, 'it is not a JSON Web Token', next);
  }
  if (claims.expires !== undefined && claims.expires <= now) {
    const late = Math.max(1, Math.round((now - claims.expires) / 60));
    return notAccepted(
      'identity-expired',
      registry,
      `it ran out ${late} min ago`,
      'let the job ask for its token right before hod runs, and check the clock of this machine',
    );
  }
  if (audience !== undefined && !claims.audiences.includes(audience)) {
    return notAccepted(
      'identity-other-audience',
      registry,
      `it is meant for ${claims.audiences.join(', ') || 'nobody'}, and the token service expects ${audience}`,
      `let the job ask for a token with the audience ${audience}`,
    );
  }
  return undefined;
}

/** What the refusal of a token service means for the user. */
export function explainRefusal(
  token: string,
  { registry, service }: ExchangePurpose,
  answer: { readonly status: number; readonly error: string | undefined; readonly said: string | undefined },
): HodError {
  const claims = readJobClaims(token);
  const said = answer.said === undefined ? '' : `: ${asOneLine(answer.said)}`;
  const identity = `${claims?.subject ?? 'no subject'}, issued by ${claims?.issuer ?? 'nobody'}`;
  switch (answer.error) {
    case 'invalid_target':
      return notAccepted(
        'identity-other-audience',
        registry,
        `${service} does not know what it is meant for (${claims?.audiences.join(', ') || 'nobody'})${said}`,
        'set `audience:` in hod.yaml to what the token service expects',
      );
    case 'access_denied':
    case 'unauthorized_client':
      return notAccepted(
        'identity-without-rule',
        registry,
        `${service} has no trust rule for ${identity}${said}`,
        'run this in the project and on the branch that the rule names, or have the rule extended',
      );
    case 'invalid_grant':
      return notAccepted(
        'identity-untrusted',
        registry,
        `${service} does not trust the signature of ${identity}${said}`,
        'have the issuer registered at the token service, or look at where hod.yaml takes the token from',
      );
    default:
      return notAccepted(
        'identity-refused',
        registry,
        `${service} answered ${answer.status}${answer.error === undefined ? '' : ` (${answer.error})`}${said}`,
        'check `exchange:` in hod.yaml, and ask whoever runs the token service',
      );
  }
}
