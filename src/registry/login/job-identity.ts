import * as z from 'zod';
import {
  exchangeErrorSchema,
  explainRefusal,
  explainUnusable,
  type ExchangePurpose,
} from '../../core/access/job-token';
import type { Secrets } from '../../core/access/secrets';
import { HodError } from '../../core/errors';
import { parseJson } from '../../core/json';
import { readBody } from '../http/read-body';
import { withRetries } from '../http/retry';
import { mayPass, passingProblem } from '../http/status-problems';
import type { OutgoingRequest, Wire } from '../http/wire';
import type { CredentialSource, HeldCredential } from './credential';

const answerLimit = 256 * 1024;
const jobTokenAnswer = z.object({ token: z.string().optional(), value: z.string().optional() });
const exchangeAnswer = z.object({ access_token: z.string(), expires_in: z.number().positive().optional() });

/** Where the identity token of a job comes from: it is given, or the CI hands it out. */
export type JobToken =
  | { readonly kind: 'given'; readonly read: () => Promise<string> }
  | { readonly kind: 'asked'; readonly read: () => Promise<{ url: string; bearer: string }> };

/** The credential that the identity of this job is exchanged for. */
export function jobLogin(token: JobToken, purpose: ExchangePurpose, secrets: Secrets): CredentialSource {
  return async (wire) => {
    const identity =
      token.kind === 'given' ? await token.read() : await requestToken(wire, await token.read(), purpose, secrets);
    return exchangeToken(wire, identity, purpose, secrets);
  };
}

/** Asks the CI for the identity token of this job. Throws `denied` where the job may not have one. */
async function requestToken(
  wire: Wire,
  { url: text, bearer }: { url: string; bearer: string },
  purpose: ExchangePurpose,
  secrets: Secrets,
): Promise<string> {
  const url = new URL(text);
  if (purpose.audience !== undefined) {
    url.searchParams.set('audience', purpose.audience);
  }
  const headers = { authorization: `Bearer ${bearer}`, accept: 'application/json' };
  const { status, document } = await ask(
    wire,
    { url, method: 'GET', headers },
    purpose,
    'could not ask for the identity of this job',
  );
  const answer = jobTokenAnswer.safeParse(document).data;
  const token = answer?.token ?? answer?.value;
  if (status !== 200 || token === undefined) {
    throw identityMissing(purpose.registry, `${url.host} answered ${status} to the request for an identity token`);
  }
  return secrets.keep(token);
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
 * Exchanges the identity token of a job for a credential of the registry that is good for minutes
 * (OAuth 2.0 Token Exchange, RFC 8693 §2). Throws `denied` with the cause and its remedy.
 */
async function exchangeToken(
  wire: Wire,
  token: string,
  purpose: ExchangePurpose,
  secrets: Secrets,
): Promise<HeldCredential> {
  const unusable = explainUnusable(token, purpose, Date.now() / 1000);
  if (unusable !== undefined) {
    throw unusable;
  }
  const asked = Date.now();
  const form = new URLSearchParams({
    grant_type: 'urn:ietf:params:oauth:grant-type:token-exchange',
    subject_token: token,
    subject_token_type: 'urn:ietf:params:oauth:token-type:jwt',
    requested_token_type: 'urn:ietf:params:oauth:token-type:access_token',
    audience: purpose.registry,
  });
  const headers = { 'content-type': 'application/x-www-form-urlencoded', accept: 'application/json' };
  const request: OutgoingRequest = { url: new URL(purpose.service), method: 'POST', headers, body: form.toString() };
  const { status, document } = await ask(wire, request, purpose, 'could not exchange the identity of this job');
  const answer = exchangeAnswer.safeParse(document).data;
  if (status !== 200 || answer === undefined) {
    throw explainRefusal(token, purpose, status, exchangeErrorSchema.safeParse(document).data);
  }
  const lifetime = answer.expires_in;
  return {
    credential: { kind: 'token', token: secrets.keep(answer.access_token, 'token') },
    expires: lifetime === undefined ? undefined : new Date(asked + lifetime * 1000),
  };
}

async function ask(wire: Wire, request: OutgoingRequest, { registry }: ExchangePurpose, purpose: string) {
  const about = { purpose, object: registry };
  return withRetries(async () => {
    const response = await wire.send(request, about);
    const body = await wire.naming(readBody(response, answerLimit), about, request.url.host);
    if (mayPass(response.statusCode)) {
      throw passingProblem(response, about, request.url.host);
    }
    return { status: response.statusCode, document: (body && parseJson(body)) ?? {} };
  }, wire.patience.retry);
}
