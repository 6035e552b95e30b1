import * as z from 'zod';
import { exchangeErrorSchema, explainRefusal, refuseUnusable, type ExchangePurpose } from '../core/access/job-token';
import { keepSecret } from '../core/access/secrets';
import { HodError } from '../core/errors';
import { parseJson } from '../core/oci/manifest';
import type { Credential } from './authorization';
import { readBody } from './problems';
import { TransientError, withRetries } from './retry';
import type { OutgoingRequest, Wire } from './wire';

const answerLimit = 256 * 1024;
const jobTokenAnswer = z.object({ token: z.string().optional(), value: z.string().optional() });
const exchangeAnswer = z.object({ access_token: z.string(), expires_in: z.number().positive().optional() });

/** Where the CI hands out identity tokens to a job, and the job's own permission to ask for one. */
export interface TokenRequest {
  url: string;
  bearer: string;
}

/** Asks the CI for the identity token of this job. Throws `denied` where the job may not have one. */
export async function requestJobToken(wire: Wire, request: TokenRequest, purpose: ExchangePurpose): Promise<string> {
  const url = new URL(request.url);
  if (purpose.audience !== undefined) {
    url.searchParams.set('audience', purpose.audience);
  }
  const headers = { authorization: `Bearer ${request.bearer}`, accept: 'application/json' };
  const { status, document } = await ask(
    wire,
    { url, method: 'GET', headers },
    purpose,
    'could not ask for the identity of this job',
  );
  const answer = jobTokenAnswer.safeParse(document).data;
  const token = answer?.token ?? answer?.value;
  if (status !== 200 || token === undefined) {
    throw new HodError('denied', {
      what: 'this job may not ask for its identity',
      object: purpose.registry,
      why: `${url.host} answered ${status} to the request for an identity token`,
      next: 'allow this job to ask for identity tokens, where its pipeline is described',
    });
  }
  return keepSecret(token);
}

/**
 * Exchanges the identity token of a job for a credential of the registry that is good for minutes
 * (OAuth 2.0 Token Exchange, RFC 8693 §2). Throws `denied` with the cause and its remedy.
 */
export async function exchangeJobToken(
  wire: Wire,
  token: string,
  purpose: ExchangePurpose,
): Promise<{ credential: Credential; expires: Date | undefined }> {
  refuseUnusable(token, purpose, Date.now() / 1000);
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
    throw new HodError('denied', {
      reason: 'login-refused',
      ...explainRefusal(token, purpose, status, exchangeErrorSchema.safeParse(document).data),
    });
  }
  const lifetime = answer.expires_in;
  return {
    credential: { kind: 'token', token: keepSecret(answer.access_token) },
    expires: lifetime === undefined ? undefined : new Date(asked + lifetime * 1000),
  };
}

async function ask(wire: Wire, request: OutgoingRequest, { registry }: ExchangePurpose, what: string) {
  const about = { purpose: what, object: registry };
  return withRetries(async () => {
    const response = await wire.send(request, about);
    const body = await wire.naming(readBody(response, answerLimit), about, request.url.host);
    if (response.statusCode >= 500 || response.statusCode === 429) {
      const why = `${request.url.host} has a fault of its own (${response.statusCode})`;
      throw new TransientError({ what, object: registry, why, next: 'run the command again later' });
    }
    return { status: response.statusCode, document: (body && parseJson(body)) ?? {} };
  }, wire.patience.retry);
}
