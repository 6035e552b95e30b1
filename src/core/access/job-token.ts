import * as z from 'zod';
import { HodError, type Problem } from '../errors';

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
    const payload = token.split('.')[1] ?? '';
    const bytes = Uint8Array.from(atob(payload.replaceAll('-', '+').replaceAll('_', '/')), (each) =>
      each.charCodeAt(0),
    );
    const { iss, sub, aud, exp } = claimsSchema.parse(JSON.parse(new TextDecoder().decode(bytes)));
    return { issuer: iss, subject: sub, audiences: [aud ?? []].flat(), expires: exp };
  } catch {
    return undefined;
  }
}

/** The error answer of a token service (RFC 6749 §5.2, RFC 8693 §2.2.2). */
export const exchangeErrorSchema = z.object({ error: z.string(), error_description: z.string().optional() });

/** What a job's identity is used for, for messages. */
export interface ExchangePurpose {
  registry: string;
  /** The token service. */
  service: string;
  /** The audience that the token service expects; undefined where hod.yaml does not say. */
  audience: string | undefined;
}

const what = 'the identity of this job was not accepted';

/** Refuses, before it is sent, a token that cannot be accepted. `now` is in seconds since 1970. */
export function refuseUnusable(token: string, { registry, audience }: ExchangePurpose, now: number): void {
  const claims = readJobClaims(token);
  const refuse = (why: string, next: string): never => {
    throw new HodError('denied', { what, object: registry, why, next });
  };
  if (claims === undefined) {
    return refuse('it is not a JSON Web Token', 'look at where hod.yaml takes the token from');
  }
  if (claims.expires !== undefined && claims.expires <= now) {
    const late = Math.max(1, Math.round((now - claims.expires) / 60));
    return refuse(
      `it ran out ${late} min ago`,
      'let the job ask for its token right before hod runs, and check the clock of this machine',
    );
  }
  if (audience !== undefined && !claims.audiences.includes(audience)) {
    return refuse(
      `it is meant for ${claims.audiences.join(', ') || 'nobody'}, and the token service expects ${audience}`,
      `let the job ask for a token with the audience ${audience}`,
    );
  }
}

/** What the refusal of a token service means for the user. */
export function explainRefusal(
  token: string,
  { registry, service }: ExchangePurpose,
  status: number,
  answer: z.infer<typeof exchangeErrorSchema> | undefined,
): Problem {
  const claims = readJobClaims(token);
  const said = answer?.error_description === undefined ? '' : `: ${answer.error_description}`;
  const identity = `${claims?.subject ?? 'no subject'}, issued by ${claims?.issuer ?? 'nobody'}`;
  switch (answer?.error) {
    case 'invalid_target':
      return {
        what,
        object: registry,
        why: `${service} does not know what it is meant for (${claims?.audiences.join(', ') || 'nobody'})${said}`,
        next: 'set `audience:` in hod.yaml to what the token service expects',
      };
    case 'access_denied':
    case 'unauthorized_client':
      return {
        what,
        object: registry,
        why: `${service} has no trust rule for ${identity}${said}`,
        next: 'run this in the project and on the branch that the rule names, or have the rule extended',
      };
    case 'invalid_grant':
      return {
        what,
        object: registry,
        why: `${service} does not trust the signature of ${identity}${said}`,
        next: 'have the issuer registered at the token service, or look at where hod.yaml takes the token from',
      };
    default:
      return {
        what,
        object: registry,
        why: `${service} answered ${status}${answer === undefined ? '' : ` (${answer.error})`}${said}`,
        next: 'check `exchange:` in hod.yaml, and ask whoever runs the token service',
      };
  }
}
