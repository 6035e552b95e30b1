import { HodError, systemErrorCode, type ErrorCode, type Problem } from '../core/errors';
import { lookIntoLog, type About } from './exchange';
import { TransientError, type TransientCode } from './retry';

/** Whether an error comes from a connection: not from a mistake in Hod, and not from a disk. */
export function isNetworkError(error: unknown): boolean {
  return networkCode.test(systemErrorCode(error) ?? '') || isParserError(error);
}

/** The HTTP package gives these no code, or asserts, where a peer does not speak HTTP at all. */
function isParserError(error: unknown): boolean {
  return error instanceof Error && (error.name === 'HTTPParserError' || systemErrorCode(error) === 'ERR_ASSERTION');
}

const networkCode =
  /^(ECONN[A-Z]+|EPIPE|ETIMEDOUT|EHOST[A-Z]+|ENET[A-Z]+|EAI_[A-Z]+|ENOTFOUND|EADDR[A-Z]+|EPROTO|UND_ERR_(?!INVALID_ARG|NOT_SUPPORTED).*|HPE_.*|CERT_.*|.*_CERT.*|UNABLE_TO_.*|ERR_TLS_.*|ERR_SSL_.*)$/;

/** The reason why an exchange is broken off that took longer than it may. */
export function deadlinePassed(milliseconds: number): Error {
  return Object.assign(new Error(`no whole answer in ${Math.round(milliseconds / 1000)} s`), { code: 'ETIMEDOUT' });
}

/** The fault of a name that leads to an address of this machine and may not. */
export function addressRefused(host: string): Error {
  return Object.assign(new Error(`${host} is an address of this machine alone`), { code: 'EADDRNOTAVAIL' });
}

const again = 'run the command again; what has arrived is not sent again';

/** What a failed connection means for the user. */
export function networkProblem(error: unknown, about: About, host: string): HodError {
  const code = isParserError(error) ? 'HPE_INVALID' : (systemErrorCode(error) ?? '');
  const text = error instanceof Error ? error.message : '';
  const cause =
    causes.find(({ pattern }) => pattern.test(`${code} ${text}`)) ??
    passing(/^/, 'connection-broken', () => `the connection to ${host} broke (${code})`, again);
  const problem: Problem = { what: about.purpose, object: about.object, why: cause.why(host), next: cause.next };
  return cause.mayPass
    ? new TransientError(cause.code, problem, { cause: error })
    : new HodError(cause.code, problem, { cause: error });
}

type Cause = { pattern: RegExp; why: (host: string) => string; next: string } & (
  { mayPass: true; code: TransientCode } | { mayPass: false; code: ErrorCode }
);

function passing(pattern: RegExp, code: TransientCode, why: Cause['why'], next: string): Cause {
  return { pattern, mayPass: true, code, why, next };
}

/** A cause for which trying again would not help. */
function lasting(pattern: RegExp, code: ErrorCode, why: Cause['why'], next: string): Cause {
  return { pattern, mayPass: false, code, why, next };
}

const causes: Cause[] = [
  lasting(
    /^EADDRNOTAVAIL .*address of this machine alone/,
    'destination-unsafe',
    (host) => `${host}, which a registry names, is an address of this machine alone`,
    lookIntoLog,
  ),
  // The run has ended, by another failure: what is still on its way ends with it.
  lasting(/^UND_ERR_(DESTROYED|CLOSED)/, 'connection-broken', (host) => `the connection to ${host} was closed`, again),
  lasting(
    /Proxy response|proxy/i,
    'proxy-refused',
    (host) => `the proxy in HTTPS_PROXY or HTTP_PROXY does not let this through to ${host}`,
    'name the host in NO_PROXY if it is reached directly, or correct the proxy',
  ),
  lasting(
    /^(ENOTFOUND|EAI_NONAME)/,
    'host-unknown',
    (host) => `the host ${host} does not exist`,
    'correct `repository:` in hod.yaml',
  ),
  passing(
    /^EAI_AGAIN/,
    'host-unknown',
    (host) => `the name ${host} cannot be resolved`,
    'check the network and the resolver of this machine, and `repository:` in hod.yaml',
  ),
  passing(
    /^(ECONNREFUSED|EHOSTUNREACH|ENETUNREACH)/,
    'not-listening',
    (host) => `${host} refuses connections`,
    'start the registry, or correct the host and port in hod.yaml',
  ),
  lasting(
    /wrong version number|http request|packet length too long/i,
    'tls-untrusted',
    (host) => `${host} speaks plain HTTP, where TLS was expected`,
    'have it speak TLS, or write `tls: false` under its name in `registries:` of hod.yaml where that is meant',
  ),
  lasting(
    /^(ERR_SSL_|EPROTO)/,
    'tls-untrusted',
    (host) => `${host} does not speak TLS as this machine does`,
    'correct the host and port in hod.yaml, or see which versions of TLS the registry allows',
  ),
  lasting(
    /^HPE_/,
    'not-a-registry',
    (host) => `${host} does not speak HTTP as it should`,
    'correct the host and port in hod.yaml; a registry on this machine that speaks TLS needs `tls: {}` there',
  ),
  lasting(
    /CERT|^UNABLE_TO_|^ERR_TLS/,
    'tls-untrusted',
    (host) => `${host} shows a TLS certificate that this machine does not trust`,
    'name its authority with `tls: { ca: FILE }` under its name in `registries:` of hod.yaml',
  ),
  passing(/TIMEOUT|^ETIMEDOUT/, 'timed-out', (host) => `${host} did not answer in time`, again),
];
