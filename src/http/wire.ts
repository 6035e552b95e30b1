import { lookup } from 'node:dns';
import type { LookupFunction } from 'node:net';
import { createSecureContext, rootCertificates, type SecureContext } from 'node:tls';
import { Agent, EnvHttpProxyAgent, type Dispatcher } from 'undici';
import { isNear, isThisMachine } from '../core/access/destinations';
import { hostOf } from '../core/oci/reference';
import { silentWait } from '../core/retrying';
import type { About, RegistryResponse } from './exchange';
import { addressRefused, deadlinePassed, isNetworkError, networkProblem } from './network-problems';
import type { Retries } from './retry';

/** Certificates for a host: PEM texts. */
export interface TlsOptions {
  /** Authorities to trust besides those that this machine trusts. */
  authorities: string[];
  /** Who we are, where the host asks for a client certificate. */
  client?: { certificate: string; key: string } | undefined;
}

/** A request as it goes out. */
export interface OutgoingRequest {
  url: URL;
  method: Dispatcher.HttpMethod;
  headers?: Readonly<Record<string, string>>;
  body?: Dispatcher.DispatchOptions['body'];
  /** How many bytes of content move with it, either way. */
  bulk?: number | undefined;
}

/** A request that was answered, or was not, for the log. Holds neither query nor headers, where secrets stand. */
export interface WireEvent {
  method: string;
  host: string;
  path: string;
  /** The status of the answer, or the code of the fault. */
  outcome: number | string;
  milliseconds: number;
}

/** Told of what goes on on the wire. */
export interface WireObserver {
  exchange(event: WireEvent): void;
  /** An answer has been waited for so long that people want to know. */
  waiting(text: string): void;
}

/** How long to wait for what, in milliseconds. */
export interface Patience {
  /** For a connection. */
  connect: number;
  /** Between two pieces of a body, and for an answer to content that was sent. */
  idle: number;
  /** For a whole exchange, from the first byte out to the last one in; longer by its size where content moves. */
  whole: number;
  /** Before the first repetition; doubled for each that follows. */
  retry: number;
}

/** Patience with real networks. */
export const usualPatience: Patience = { connect: 10_000, idle: 60_000, whole: 60_000, retry: 200 };

/** The slowest that content may move, in bytes a millisecond: about half a megabit a second. */
const slowest = 64;
/** The slowest that content that was taken may be read again before it is answered for, in bytes a millisecond. */
const thinking = 10_000;
/** How long a connection that nobody uses is kept, in milliseconds: through what is read or decided in between. */
const idleConnection = 30_000;
/** How long a registry may take to read content again that it took, in milliseconds. */
export function rereadingTime(bytes: number): number {
  return bytes / thinking;
}

/** Between two notices about one host, in milliseconds. */
const noticeInterval = 10_000;

/** How the hosts of a wire are found. */
export interface WireRoute {
  /** Hosts of this machine are reached directly; all others as HTTPS_PROXY, HTTP_PROXY and NO_PROXY say. */
  readonly local: boolean;
  /** Names that may lead to an address of this machine; any may where it is not given. */
  readonly mayBeNear?: ReadonlySet<string>;
}

/** The connections to hosts that are reached in one way, and their faults by name. */
export class Wire {
  private readonly dispatcher: Dispatcher;
  private readonly noticed = new Map<string, number>();

  constructor(
    tls: TlsOptions | undefined,
    readonly patience: Patience,
    private readonly observer: WireObserver,
    { connections, ...route }: WireRoute & { readonly connections: number },
  ) {
    const options = {
      connect: { lookup: lookupFor(route), timeout: patience.connect, ...(tls && secured(tls)) },
      connections,
      keepAliveTimeout: idleConnection,
      headersTimeout: patience.idle,
      bodyTimeout: patience.idle,
    };
    this.dispatcher = route.local
      ? new Agent(options)
      : new EnvHttpProxyAgent({ ...options, requestTls: options.connect });
  }

  /** How requests are tried again. */
  get retries(): Retries {
    const { retry: firstDelay, whole } = this.patience;
    return { firstDelay, budget: whole * 0.75, waiting: (text) => this.observer.waiting(text) };
  }

  /** Sends one request. Throws what a fault of the connection means for the user. */
  async send({ url, method, headers, body, bulk = 0 }: OutgoingRequest, about: About): Promise<RegistryResponse> {
    const begun = performance.now();
    const deadline = new AbortController();
    const limit = this.patience.whole + bulk / slowest;
    const whole = setTimeout(() => deadline.abort(deadlinePassed(limit)), limit).unref();
    const silent = setTimeout(() => this.notice(url, about), bulk > 0 ? 10 * silentWait : silentWait).unref();
    const rest = (): void => [whole, silent].forEach(clearTimeout);
    const tell = (outcome: number | string): void => {
      const milliseconds = performance.now() - begun;
      this.observer.exchange({ method, host: url.host, path: url.pathname, outcome, milliseconds });
    };
    try {
      const answer = this.dispatcher.request({
        origin: url.origin,
        path: `${url.pathname}${url.search}`,
        method,
        headers: { 'user-agent': 'hod', ...headers },
        body: body ?? null,
        signal: deadline.signal,
        headersTimeout: this.patience.idle + rereadingTime(bulk),
        // The connection is kept after a HEAD too.
        reset: false,
      });
      // A request that waits for a proxy to let it through does not hear of the deadline.
      const response = await Promise.race([answer, ended(deadline.signal)]);
      if (bulk > 0) {
        // Whoever waits for content sees it arrive.
        clearTimeout(silent);
      }
      response.body.once('close', rest);
      tell(response.statusCode);
      return { statusCode: response.statusCode, headers: response.headers, body: response.body, url };
    } catch (error) {
      rest();
      tell(error instanceof Error && 'code' in error ? String(error.code) : 'failed');
      throw this.nameFault(error, about, url.host);
    }
  }

  /** Waits for work on a connection. Throws what a fault of the connection means for the user. */
  async naming<T>(work: Promise<T>, about: About, host: string): Promise<T> {
    try {
      return await work;
    } catch (error) {
      throw this.nameFault(error, about, host);
    }
  }

  /** Closes every connection. */
  async close(): Promise<void> {
    await this.dispatcher.destroy();
  }

  private nameFault(error: unknown, about: About, host: string): unknown {
    return isNetworkError(error) ? networkProblem(error, about, host) : error;
  }

  private notice({ host }: URL, { object }: About): void {
    const now = performance.now();
    if (now - (this.noticed.get(host) ?? -Infinity) >= noticeInterval) {
      this.noticed.set(host, now);
      this.observer.waiting(`waiting for ${host} to answer about ${object}`);
    }
  }
}

/** One context for every connection: making one from all authorities takes as long as many requests. */
function secured({ authorities, client }: TlsOptions): { secureContext: SecureContext } {
  const secureContext = createSecureContext({
    ca: [...rootCertificates, ...authorities],
    ...(client === undefined ? {} : { cert: client.certificate, key: client.key }),
  });
  return { secureContext };
}

/** Fails when the signal comes. */
function ended(signal: AbortSignal): Promise<never> {
  return new Promise((_, reject) => {
    signal.addEventListener('abort', () => reject(signal.reason as Error), { once: true });
  });
}

/** Names under `localhost` are this machine, whatever the resolver says (RFC 6761 §6.3). */
function lookupFor({ local, mayBeNear }: WireRoute): LookupFunction {
  return (hostname, options, callback) => {
    const name = hostOf(hostname);
    lookup(local && isThisMachine(name) ? '127.0.0.1' : hostname, options, (error, address, family) => {
      const refused = error === null && mayBeNear?.has(name) === false && isNearAny(address);
      callback(refused ? addressRefused(name) : error, address, family);
    });
  };
}

function isNearAny(found: string | { address: string }[]): boolean {
  const addresses = typeof found === 'string' ? [found] : found.map(({ address }) => address);
  return addresses.some((each) =>
    isNear(each.includes(':') ? new URL(`http://[${each.replace(/%.*/, '')}]`).host : each),
  );
}
