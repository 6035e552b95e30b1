import { lookup } from 'node:dns';
import type { LookupFunction } from 'node:net';
import { rootCertificates } from 'node:tls';
import { Agent, EnvHttpProxyAgent, request, type Dispatcher } from 'undici';
import { hostOf } from '../../core/oci/reference';
import type { About, RegistryResponse } from './exchange';
import { isNetworkError, networkProblem } from './network-problems';

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
  headers?: Record<string, string>;
  body?: Dispatcher.DispatchOptions['body'];
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

/** How long to wait for what, in milliseconds. */
export interface Patience {
  /** For a connection. */
  connect: number;
  /** For the first byte of an answer. */
  answer: number;
  /** Between two pieces of a body. */
  idle: number;
  /** Before the first repetition; doubled for each that follows. */
  retry: number;
}

/** Patience with real networks. */
export const usualPatience: Patience = { connect: 10_000, answer: 120_000, idle: 60_000, retry: 200 };

/** The connections to hosts that are reached in one way, and their faults by name. */
export class Wire {
  private readonly dispatcher: Dispatcher;

  constructor(
    tls: TlsOptions | undefined,
    readonly patience: Patience,
    private readonly observe: (event: WireEvent) => void,
    /** Local hosts are reached directly; all others as HTTPS_PROXY, HTTP_PROXY and NO_PROXY say. */
    local: boolean,
  ) {
    const certificates = {
      ...(tls === undefined ? {} : { ca: [...rootCertificates, ...tls.authorities] }),
      ...(tls?.client === undefined ? {} : { cert: tls.client.certificate, key: tls.client.key }),
    };
    const options = {
      connect: { lookup: lookupLocally, timeout: patience.connect, ...certificates },
      headersTimeout: patience.answer,
      bodyTimeout: patience.idle,
    };
    this.dispatcher = local ? new Agent(options) : new EnvHttpProxyAgent({ ...options, requestTls: options.connect });
  }

  /** Sends one request. Throws what a fault of the connection means for the user. */
  async send({ url, method, headers, body }: OutgoingRequest, about: About): Promise<RegistryResponse> {
    const begun = performance.now();
    const tell = (outcome: number | string): void =>
      this.observe({ method, host: url.host, path: url.pathname, outcome, milliseconds: performance.now() - begun });
    try {
      const response = await request(url, {
        method,
        headers: { 'user-agent': 'hod', ...headers },
        body: body ?? null,
        dispatcher: this.dispatcher,
      });
      tell(response.statusCode);
      return response;
    } catch (error) {
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
}

/** Names under `localhost` are this machine, whatever the resolver says (RFC 6761 §6.3). */
const lookupLocally: LookupFunction = (hostname, options, callback) => {
  lookup(hostOf(hostname).endsWith('.localhost') ? '127.0.0.1' : hostname, options, callback);
};
