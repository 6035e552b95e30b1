import { atMost } from '../../core/bytes';
import * as z from 'zod';
import {
  exchangeErrorSchema,
  exchangeMessageSchema,
  explainRefusal,
  explainUnusable,
  readJobClaims,
  type ExchangePurpose,
} from '../../core/access/job-token';
import { keepCredential } from '../../core/access/credential';
import { exchangeRequest, readExchanged, type IdentityExchange } from '../../core/access/identity-exchange';
import { resolveAddress, whyExposed } from '../../core/access/destinations';
import type { Secrets } from '../../core/access/secrets';
import { HodError } from '../../core/errors';
import { parseJson } from '../../core/json';
import { withRetries } from '../../http/retry';
import { mayPass, passingProblem } from '../../http/status-problems';
import type { OutgoingRequest } from '../../http/wire';
import type { Wires } from '../../http/wires';
import { isSendable, type CredentialSource, type ObtainedCredential } from './credential';

const answerLimit = 256 * 1024;
const jobTokenAnswer = z.object({ token: z.string().optional(), value: z.string().optional() });

/** Where the identity token of a job comes from: it is given, or the CI hands it out. */
export type JobToken =
  | { readonly kind: 'given'; readonly read: () => Promise<string> }
  | { readonly kind: 'asked'; readonly read: () => Promise<{ url: string; bearer: string }> };

/** Where the identity of a job is exchanged, for which registry, and how. */
export interface JobExchange {
  readonly registry: string;
  readonly exchange: IdentityExchange;
  /** The audience that the identity is meant for; undefined where hod.yaml does not say. */
  readonly audience: string | undefined;
}

/** The credential that the identity of this job is exchanged for. `accepted` is told whose it is, once it was accepted. */
export function jobLogin(
  token: JobToken,
  { registry, exchange, audience }: JobExchange,
  { secrets, accepted }: { secrets: Secrets; accepted: (subject: string) => void },
): CredentialSource {
  const purpose = { registry, service: exchange.url, audience };
  return async (wires) => {
    const identity =
      token.kind === 'given' ? await token.read() : await requestJobToken(wires, await token.read(), purpose, secrets);
    const obtained = await exchangeToken(wires, identity, { exchange, purpose }, secrets);
    const subject = readJobClaims(identity)?.subject;
    if (subject !== undefined) {
      accepted(subject);
    }
    return obtained;
  };
}

/** Asks the CI for the identity token of this job. Throws `denied` where the job may not have one. */
export async function requestJobToken(
  wires: Wires,
  { url: text, bearer }: { url: string; bearer: string },
  purpose: ExchangePurpose,
  secrets: Secrets,
): Promise<string> {
  const url = safeAddress(text, purpose, 'the CI names');
  if (!isSendable(bearer)) {
    throw identityMissing(
      purpose.registry,
      'what the CI gives to ask with cannot be sent: it holds spaces or line breaks',
    );
  }
  if (purpose.audience !== undefined) {
    url.searchParams.set('audience', purpose.audience);
  }
  const headers = { authorization: `Bearer ${bearer}`, accept: 'application/json' };
  const { status, document } = await ask(
    wires,
    { url, method: 'GET', headers },
    purpose,
    'could not ask for the identity of this job',
  );
  const answer = jobTokenAnswer.safeParse(document).data;
  const token = answer?.token ?? answer?.value;
  if (status !== 200 || token === undefined) {
    throw identityMissing(purpose.registry, `${url.host} answered ${status} to the request for an identity token`);
  }
  return secrets.keep(token, purpose.registry);
}

/** The error for a job that its CI gives nothing to prove itself with: it has not been told to. */
export function identityMissing(registry: string, why: string): HodError {
  return new HodError('identity-missing', {
    what: 'this job may not ask for its identity',
    object: registry,
    why,
    next: 'allow this job to ask for identity tokens, where its pipeline is described',
  });
}

/**
 * Exchanges the identity token of a job for a credential of the registry that is good for minutes. Throws `denied` with the
 * cause and its remedy.
 */
async function exchangeToken(
  wires: Wires,
  token: string,
  { exchange, purpose }: { exchange: IdentityExchange; purpose: ExchangePurpose },
  secrets: Secrets,
): Promise<ObtainedCredential> {
  const unusable = explainUnusable(token, purpose, Date.now() / 1000);
  if (unusable !== undefined) {
    throw unusable;
  }
  const asked = Date.now();
  const { registry, audience = '' } = purpose;
  const url = safeAddress(exchange.url, purpose, '`exchange:` in hod.yaml names');
  const request: OutgoingRequest = {
    url,
    method: exchange.method,
    ...exchangeRequest(exchange, { token, audience, registry }),
  };
  const { status, document } = await ask(wires, request, purpose, 'could not exchange the identity of this job');
  const succeeded = status >= 200 && status < 300;
  const exchanged = succeeded ? readExchanged(exchange.answer, document, asked) : undefined;
  if (exchanged === undefined) {
    const refusal = exchangeErrorSchema.safeParse(document).data;
    const said = refusal?.error_description ?? exchangeMessageSchema.safeParse(document).data?.message;
    throw explainRefusal(token, purpose, {
      status,
      error: succeeded ? undefined : refusal?.error,
      // What came with a login is not repeated: the login may stand in it.
      said: succeeded ? noLoginThere(exchange) : said && secrets.redact(said),
    });
  }
  const { login, expires } = exchanged;
  return {
    credential: keepCredential(login, registry, secrets),
    expires,
    origin: {
      name: 'what the identity of this job was exchanged for',
      next: `check what ${purpose.service} issues; \`hod access check\` tries it`,
    },
  };
}

function noLoginThere({ answer }: IdentityExchange): string {
  const places = Object.entries(answer).filter(([key]) => !['user', 'expires', 'expires-in'].includes(key));
  return `there is no login at ${places.map(([, path]) => path).join(' and ')} in its answer`;
}

/** An address that a secret is sent to. Throws where it is none, or where the secret could be read on the way. */
function safeAddress(text: string, { registry }: ExchangePurpose, whoNames: string): URL {
  const url = URL.canParse(text) ? resolveAddress(text, new URL(text)) : undefined;
  const why = url === undefined ? 'it is no HTTP address' : whyExposed(url);
  if (url === undefined || why !== undefined) {
    throw new HodError('login-exposed', {
      what: 'the identity of this job is not sent there',
      object: registry,
      why: `${whoNames} ${text}: ${why ?? ''}`,
      next: 'name an address with https',
    });
  }
  return url;
}

async function ask(wires: Wires, request: OutgoingRequest, { registry }: ExchangePurpose, purpose: string) {
  const about = { purpose, object: registry };
  const wire = wires.to(request.url);
  return withRetries(async () => {
    const response = await wire.send(request, about);
    const body = await wire.naming(atMost(answerLimit, response.body), about, request.url.host);
    if (mayPass(response.statusCode)) {
      throw passingProblem(response, about, request.url.host);
    }
    return { status: response.statusCode, document: (body && parseJson(body)) ?? {} };
  }, wire.retries);
}
