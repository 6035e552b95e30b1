import * as z from 'zod';
import { redact } from '../core/access/secrets';
import { HodError, systemErrorCode, type AccessReason, type Fault, type Problem } from '../core/errors';
import { parseJson } from '../core/oci/manifest';
import type { About, RegistryResponse } from './exchange';
import { TransientError } from './retry';

/** The error document of the OCI distribution specification, "Error Codes". */
const errorsSchema = z.object({
  errors: z.array(z.object({ code: z.string().optional(), message: z.string().nullish() })),
});
const errorBodyLimit = 64 * 1024;

/** Whether an error comes from a connection and not from a mistake in Hod. */
export function isNetworkError(error: unknown): boolean {
  return networkCode.test(systemErrorCode(error) ?? '') || isParserError(error);
}

/** The HTTP package gives these no code where a peer does not speak HTTP at all. */
function isParserError(error: unknown): boolean {
  return error instanceof Error && error.name === 'HTTPParserError';
}

const networkCode =
  /^(E[A-Z]+|UND_ERR_(?!INVALID_ARG|NOT_SUPPORTED).*|HPE_.*|CERT_.*|.*_CERT.*|UNABLE_TO_.*|ERR_TLS_.*|ERR_SSL_.*)$/;

/** What a failed connection means for the user. */
export function networkProblem(error: unknown, about: About, host: string): HodError {
  const code = systemErrorCode(error) ?? (isParserError(error) ? 'HPE_INVALID' : '');
  const text = error instanceof Error ? error.message : '';
  const known = networkCauses.find(({ pattern }) => pattern.test(`${code} ${text}`));
  const problem: Problem = {
    ...(known?.reason === undefined ? {} : { reason: known.reason }),
    what: about.purpose,
    object: about.object,
    why: known?.why(host) ?? `the connection to ${host} broke (${code})`,
    next: known?.next ?? 'run the command again; what has arrived is not sent again',
  };
  return known?.lasting === true
    ? new HodError('unavailable', problem, { cause: error })
    : new TransientError(problem, { cause: error });
}

interface NetworkCause {
  pattern: RegExp;
  reason?: AccessReason;
  why: (host: string) => string;
  next: string;
  /** Trying again would not help. */
  lasting?: boolean;
}

const networkCauses: NetworkCause[] = [
  {
    pattern: /Proxy response|proxy/i,
    reason: 'proxy',
    why: (host) => `the proxy in HTTPS_PROXY or HTTP_PROXY does not let this through to ${host}`,
    next: 'name the host in NO_PROXY if it is reached directly, or correct the proxy',
    lasting: true,
  },
  {
    pattern: /^(ENOTFOUND|EAI_NONAME)/,
    reason: 'host-unknown',
    why: (host) => `there is no host ${host}`,
    next: 'correct `repository:` in hod.yaml',
    lasting: true,
  },
  {
    pattern: /^EAI_AGAIN/,
    reason: 'host-unknown',
    why: (host) => `the name of ${host} cannot be looked up`,
    next: 'check the network and the resolver of this machine, and `repository:` in hod.yaml',
  },
  {
    pattern: /^(ECONNREFUSED|EHOSTUNREACH|ENETUNREACH)/,
    reason: 'not-listening',
    why: (host) => `nothing listens at ${host}`,
    next: 'start the registry, or correct the host and port in hod.yaml',
  },
  {
    pattern: /^(ERR_SSL_|EPROTO)/,
    reason: 'tls-untrusted',
    why: (host) => `${host} does not speak TLS`,
    next: 'if it speaks plain HTTP, write `tls: false` under its name in `registries:` of hod.yaml',
    lasting: true,
  },
  {
    pattern: /^HPE_/,
    reason: 'not-a-registry',
    why: (host) => `${host} does not speak HTTP as it should`,
    next: 'correct the host and port in hod.yaml; a registry on this machine that speaks TLS needs `tls: {}` there',
    lasting: true,
  },
  {
    pattern: /CERT|^UNABLE_TO_|^ERR_TLS/,
    reason: 'tls-untrusted',
    why: (host) => `${host} shows a TLS certificate that this machine does not trust`,
    next: 'name its authority with `tls: { ca: FILE }` under its name in `registries:` of hod.yaml',
    lasting: true,
  },
  {
    pattern: /TIMEOUT|^ETIMEDOUT/,
    why: (host) => `${host} did not answer in time`,
    next: 'run the command again; what has arrived is not sent again',
  },
];

/** What an answer that is not one of those expected means for the user. Reads the body. */
export async function statusProblem(
  request: About,
  response: RegistryResponse,
  registry: string,
  login: { used: boolean; tokens: boolean },
): Promise<HodError> {
  const { statusCode } = response;
  const said = await registrySays(response);
  const describe = (why: string, next: string, reason?: AccessReason): Problem => ({
    ...(reason === undefined ? {} : { reason }),
    what: request.purpose,
    object: request.object,
    why: said === '' ? why : `${why}: ${said}`,
    next,
  });
  const problem = (fault: Fault, why: string, next: string, reason?: AccessReason): HodError =>
    new HodError(fault, describe(why, next, reason));
  const noRight = (): HodError =>
    problem(
      'denied',
      `the login is good, and has no right to do this (${registry})`,
      'have this identity given the right; `hod access check` shows what it may do',
      'no-right',
    );

  if (statusCode === 401) {
    if (login.used && login.tokens) {
      return noRight();
    }
    return login.used
      ? problem(
          'denied',
          `${registry} refused the login`,
          'check the user name and password that hod.yaml names; `hod access check` tries them',
          'login-refused',
        )
      : problem(
          'denied',
          `${registry} asks for a login`,
          `name credentials for ${registry} under \`registries:\` in hod.yaml, or run \`hod access store ${registry} --user NAME\``,
          'login-needed',
        );
  }
  if (statusCode === 403) {
    return noRight();
  }
  if (statusCode === 429 || statusCode >= 500) {
    const seconds = Number(response.headers['retry-after']);
    const transient = describe(
      statusCode === 429
        ? `${registry} is asked too often (429)`
        : `${registry} has a fault of its own (${statusCode})`,
      'run the command again later; what has arrived is not sent again',
    );
    return new TransientError(transient, { retryAfter: seconds > 0 ? seconds * 1000 : undefined });
  }
  if (/^text\/html\b/i.test(String(response.headers['content-type'] ?? ''))) {
    return problem(
      'unavailable',
      `${registry} answered with a web page (${statusCode}): it is not a registry, or something stands in front of it`,
      'correct `repository:` in hod.yaml, or look for a proxy or a login page in between',
      'not-a-registry',
    );
  }
  if (statusCode === 404) {
    return problem('missing', 'it is not there', 'check the name; `hod status` shows what is where', 'no-repository');
  }
  if (statusCode === 409 || statusCode === 412) {
    return problem(
      'refused',
      `${registry} does not let this be overwritten (${statusCode})`,
      'publish under another tag',
    );
  }
  return problem('unavailable', `${registry} answered ${statusCode}`, 'look into the log of the registry');
}

/** What a registry says of an error, in its own words. */
export async function registrySays(response: RegistryResponse): Promise<string> {
  const body = await readBody(response, errorBodyLimit).catch(() => undefined);
  const parsed = errorsSchema.safeParse((body && parseJson(body)) ?? null);
  const said = (parsed.data?.errors ?? [])
    .map(({ code, message }) => [code, message].filter((each) => each).join(' '))
    .join('; ');
  // Cut after, not before, secrets are taken out: a part of one would not be recognised.
  return redact(said).slice(0, 500);
}

/** The whole body of an answer; undefined, and the connection closed, where it is longer than `limit` bytes. */
export async function readBody(response: RegistryResponse, limit: number): Promise<Uint8Array | undefined> {
  const pieces: Uint8Array[] = [];
  let size = 0;
  for await (const piece of response.body) {
    const bytes = z.instanceof(Uint8Array).parse(piece);
    size += bytes.length;
    if (size > limit) {
      return undefined;
    }
    pieces.push(bytes);
  }
  return Buffer.concat(pieces);
}
