import * as z from 'zod';
import { HodError, systemErrorCode, type Fault, type Problem } from '../core/errors';
import { parseJson } from '../core/oci/manifest';
import type { RegistryRequest, RegistryResponse } from './exchange';
import { TransientError } from './retry';

/** The error document of the OCI distribution specification, "Error Codes". */
const errorsSchema = z.object({
  errors: z.array(z.object({ code: z.string().optional(), message: z.string().nullish() })),
});
const errorBodyLimit = 64 * 1024;

/** Whether an error comes from a connection and not from a mistake in Hod. */
export function isNetworkError(error: unknown): boolean {
  const code = systemErrorCode(error);
  return (
    code !== undefined && /^(E[A-Z]+|UND_ERR_(?!INVALID_ARG|NOT_SUPPORTED).*|HPE_.*|CERT_.*|.*_CERT.*)$/.test(code)
  );
}

/** What a failed connection means for the user. */
export function networkProblem(
  error: unknown,
  request: Pick<RegistryRequest, 'purpose' | 'object'>,
  host: string,
): HodError {
  const code = systemErrorCode(error) ?? '';
  const known = networkCauses.find(({ pattern }) => pattern.test(code));
  const problem = {
    what: request.purpose,
    object: request.object,
    why: known?.why(host) ?? `the connection to ${host} broke (${code})`,
    next: known?.next ?? 'run the command again; what has arrived is not sent again',
  };
  return known?.lasting === true
    ? new HodError('unavailable', problem, { cause: error })
    : new TransientError(problem, { cause: error });
}

const networkCauses: { pattern: RegExp; why: (host: string) => string; next: string; lasting?: boolean }[] = [
  {
    pattern: /^ENOTFOUND$/,
    why: (host) => `there is no host ${host}`,
    next: 'correct `repository:` in hod.yaml',
    lasting: true,
  },
  {
    pattern: /^(ECONNREFUSED|EHOSTUNREACH|ENETUNREACH)$/,
    why: (host) => `nothing listens at ${host}`,
    next: 'start the registry, or correct the host and port in hod.yaml',
  },
  {
    pattern: /CERT|^ERR_TLS|^EPROTO$/,
    why: (host) => `${host} has no TLS certificate that this machine trusts, or does not speak TLS`,
    next: 'for a registry that speaks plain HTTP, write `tls: false` under its name in `registries:` of hod.yaml',
    lasting: true,
  },
  {
    pattern: /TIMEOUT|^ETIMEDOUT$/,
    why: (host) => `${host} did not answer in time`,
    next: 'run the command again; what has arrived is not sent again',
  },
];

/** What an answer that is not one of those expected means for the user. Reads the body. */
export async function statusProblem(
  request: RegistryRequest,
  response: RegistryResponse,
  login: { registry: string; loggedIn: boolean },
): Promise<HodError> {
  const { statusCode } = response;
  const { registry, loggedIn } = login;
  const said = await registrySays(response);
  const describe = (why: string, next: string): Problem => ({
    what: request.purpose,
    object: request.object,
    why: said === '' ? why : `${why}: ${said}`,
    next,
  });
  const problem = (fault: Fault, why: string, next: string): HodError => new HodError(fault, describe(why, next));

  if (statusCode === 401) {
    return loggedIn
      ? problem('denied', `${registry} refused the login`, 'check the user name and password that hod.yaml names')
      : problem(
          'denied',
          `${registry} asks for a login`,
          `name credentials for ${registry} under \`registries:\` in hod.yaml`,
        );
  }
  if (statusCode === 403) {
    return problem('denied', `${registry} does not allow this`, 'ask for the right to do this in this repository');
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
    );
  }
  if (statusCode === 404) {
    return problem('missing', 'it is not there', 'check the name with `hod status`');
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

async function registrySays(response: RegistryResponse): Promise<string> {
  const body = await readBody(response, errorBodyLimit).catch(() => undefined);
  const parsed = errorsSchema.safeParse((body && parseJson(body)) ?? null);
  return (parsed.data?.errors ?? [])
    .map(({ code, message }) => [code, message].filter((each) => each).join(' '))
    .join('; ')
    .slice(0, 500);
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
