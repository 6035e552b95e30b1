import { atMost } from '../core/bytes';
import * as z from 'zod';
import type { Secrets } from '../core/access/secrets';
import { HodError, type ErrorCode } from '../core/errors';
import { parseJson } from '../core/json';
import type { About, RegistryRequest, RegistryResponse } from './exchange';
import { TransientError } from './retry';

/** The error document of the OCI distribution specification, "Error Codes". */
const errorsSchema = z.object({
  errors: z.array(z.object({ code: z.string().optional(), message: z.string().nullish() })),
});
const errorBodyLimit = 64 * 1024;
/** How a registry says that a manifest needs what it does not have. */
const lacksContent: readonly string[] = ['MANIFEST_BLOB_UNKNOWN', 'BLOB_UNKNOWN', 'MANIFEST_UNKNOWN'];

/** What a registry says of an error. */
interface Said {
  /** The codes of the error document (OCI distribution specification, "Error Codes"). */
  readonly codes: readonly string[];
  /** In its own words, without our secrets. */
  readonly words: string;
  /** Whether it says that it was to be asked over TLS. */
  readonly wantsTls: boolean;
}

/** Reads what a registry says of an error. */
export async function registrySays(response: Pick<RegistryResponse, 'body'>, secrets: Secrets): Promise<Said> {
  const body = await atMost(errorBodyLimit, response.body).catch(() => undefined);
  const parsed = errorsSchema.safeParse((body && parseJson(body)) ?? null);
  const errors = parsed.data?.errors ?? [];
  const all = errors.map(({ code, message }) => [code, message].filter((each) => each).join(' ')).join('; ');
  // Cut after, not before, secrets are taken out: a part of one would not be recognised.
  const wantsTls = body !== undefined && /\bhttps\b/i.test(Buffer.from(body.subarray(0, 1024)).toString('latin1'));
  return { codes: errors.flatMap(({ code }) => code ?? []), words: secrets.redact(all).slice(0, 500), wantsTls };
}

/** Whether a server is asked too often, or has a fault of its own: that may pass. */
export function mayPass(status: number): boolean {
  return status === 429 || status >= 500;
}

/** The error for an answer that may be another one later (RFC 6585 §4, RFC 9110 §15.6, §10.2.3). */
export function passingProblem(
  response: Pick<RegistryResponse, 'statusCode' | 'headers'>,
  about: About,
  server: string,
  said = '',
): TransientError {
  const { statusCode } = response;
  const often = statusCode === 429;
  const why = often ? `${server} is asked too often (429)` : `${server} has a fault of its own (${statusCode})`;
  return new TransientError(
    often ? 'rate-limited' : 'registry-fault',
    {
      what: about.purpose,
      object: about.object,
      why: withSaid(why, said),
      next: 'run the command again later; what has arrived is not sent again',
    },
    { retryAfter: retryAfterIn(response) },
  );
}

/** How long to wait, in milliseconds: `Retry-After` gives seconds, or a date (RFC 9110 §10.2.3). */
function retryAfterIn({ headers }: Pick<RegistryResponse, 'headers'>): number | undefined {
  const text = String(headers['retry-after'] ?? '');
  const wait = /^\d+$/.test(text) ? Number(text) * 1000 : Date.parse(text) - Date.now();
  return wait > 0 ? wait : undefined;
}

/** The error for a body that what stands in front of a registry does not let through (RFC 9110 §15.5.14). */
export function bodyTooLarge({ purpose, object }: About, server: string, bytes?: number, said = ''): HodError {
  const many = bytes === undefined ? 'this many bytes' : `${bytes} bytes`;
  return new HodError('request-too-large', {
    what: purpose,
    object,
    why: withSaid(`${server}, or what stands in front of it, does not take ${many} in one request (413)`, said),
    next: 'raise the largest size of a request (body) in what stands in front of the registry',
  });
}

/** How to name the login of a registry. */
export function nameCredentials(registry: string): string {
  return `name credentials for ${registry} under \`registries:\` in hod.yaml, or run \`hod access store ${registry} --user NAME\``;
}

/** What an answer that is not one of those expected means for the user. Reads the body. */
export async function statusProblem(
  about: About & Pick<RegistryRequest, 'method'>,
  response: RegistryResponse,
  registry: string,
  login: UsedLogin & { readonly secrets: Secrets },
): Promise<HodError> {
  const { statusCode } = response;
  const { codes, words: said, wantsTls } = await registrySays(response, login.secrets);
  const problem = (code: ErrorCode, why: string, next: string): HodError =>
    new HodError(code, { what: about.purpose, object: about.object, why: withSaid(why, said), next });
  const lacks = codes.some((code) => lacksContent.includes(code));
  if (about.method === 'PUT' && lacks) {
    return problem(
      'content-lacking',
      `${registry} lacks content that this needs (${statusCode})`,
      'run the command again: it asks for each blob, and sends what is not there',
    );
  }
  const denied = deniedProblem(statusCode, registry, login);
  if (denied !== undefined) {
    return problem(...denied);
  }
  if (mayPass(statusCode)) {
    return passingProblem(response, about, registry, said);
  }
  if (statusCode === 413) {
    return bodyTooLarge(about, registry, undefined, said);
  }
  if (statusCode === 400 && response.url.protocol === 'http:' && wantsTls) {
    return problem(
      'tls-untrusted',
      `${registry} speaks TLS, and was asked in plain HTTP`,
      'write `tls: {}` under its name in `registries:` of hod.yaml, or take `tls: false` away there',
    );
  }
  if (isPage(response)) {
    return problem(
      'not-a-registry',
      `${registry} answered with a web page (${statusCode}): it is not a registry, or something stands in front of it`,
      'correct `repository:` in hod.yaml, or look for a proxy or a login page in between',
    );
  }
  const [code, why, next] = otherProblem(statusCode, registry, { lacks });
  return problem(code, why, next);
}

type ProblemParts = [code: ErrorCode, why: string, next: string];

/** What an answer means that neither denies access nor passes by itself. */
function otherProblem(statusCode: number, registry: string, { lacks }: { readonly lacks: boolean }): ProblemParts {
  switch (statusCode) {
    case 404:
      return lacks
        ? ['content-gone', `${registry} does not have it`, 'publish that build again']
        : ['no-repository', 'it is not there', 'check the name; `hod status` shows what is where'];
    case 409:
    case 412:
      return [
        'not-overwritable',
        `${registry} does not let this be overwritten (${statusCode})`,
        'publish under another tag',
      ];
    default:
      return ['answer-unexpected', `${registry} answered ${statusCode}`, 'look into the log of the registry'];
  }
}

/** What was used to log in: its name, and what to do where it is refused; whether tokens are given out for it. */
interface UsedLogin {
  readonly used: { readonly name: string; readonly next: string } | undefined;
  readonly tokens: boolean;
}

/** The code, the cause and the remedy of an answer that denies access; undefined for another. */
function deniedProblem(statusCode: number, registry: string, { used, tokens }: UsedLogin): ProblemParts | undefined {
  if (statusCode === 403 && used === undefined) {
    return ['no-right', `${registry} forbids this to whoever has no login`, nameCredentials(registry)];
  }
  if (statusCode === 403 || (statusCode === 401 && used !== undefined && tokens)) {
    return [
      'no-right',
      `the login works, but has no right to do this (${registry})`,
      'give this identity the right; `hod access check` shows its rights',
    ];
  }
  if (statusCode !== 401) {
    return undefined;
  }
  return used === undefined
    ? ['login-needed', `${registry} asks for a login`, nameCredentials(registry)]
    : ['login-refused', `${registry} refused ${used.name}`, used.next];
}

/** Whether an answer is a page for people. Where nobody reads the body, frameworks say so of an empty one too. */
export function isPage({ headers }: Pick<RegistryResponse, 'headers'>): boolean {
  return /^text\/html\b/i.test(String(headers['content-type'] ?? ''));
}

/** A cause, with what the other side says of it. */
export function withSaid(why: string, said: string): string {
  return said === '' ? why : `${why}: ${said}`;
}
