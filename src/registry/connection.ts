import { lookup } from 'node:dns';
import type { LookupFunction } from 'node:net';
import { Agent, request, type Dispatcher } from 'undici';
import { HodError } from '../core/errors';
import { hostOf, isLoopback } from '../core/oci/reference';
import type { FetchedResponse, RegistryRequest, RegistryResponse } from './exchange';
import { isNetworkError, networkProblem, readBody, statusProblem } from './problems';
import { withRetries } from './retry';

/** How to reach a registry, and as whom. */
export interface RegistryAccess {
  /** Undefined: HTTPS, but plain HTTP for a registry on this machine. */
  tls?: boolean | undefined;
  credentials?: Credentials | undefined;
}

/** A user name and a password (RFC 7617). */
export interface Credentials {
  username: string;
  password: string;
}

const redirectLimit = 5;
const redirects = [301, 302, 303, 307, 308];

/** A way to one registry. Keeps connections open; counts the requests that it sends. */
export class Connection {
  private readonly origin: string;
  private authorization: string | undefined;
  /** The first request goes alone: it finds out for all others whether a login is asked for. */
  private firstAnswer: Promise<void> | undefined;

  constructor(
    readonly registry: string,
    private readonly access: RegistryAccess,
    private readonly dispatcher: Dispatcher,
  ) {
    const scheme = (access.tls ?? !isLoopback(registry)) ? 'https' : 'http';
    this.origin = `${scheme}://${registry}`;
  }

  /** Sends a request, again where the failure may pass. For bodies that can be sent twice. */
  async send(request: RegistryRequest, count: () => void): Promise<RegistryResponse> {
    return withRetries(() => this.sendOnce(request, count));
  }

  /**
   * Sends a request and reads the whole answer, again where either fails in a way that may pass.
   * Throws `corrupt` for a body of more than `limit` bytes.
   */
  async fetch(request: RegistryRequest, limit: number, count: () => void): Promise<FetchedResponse> {
    return withRetries(async () => {
      const response = await this.sendOnce(request, count);
      const body = await this.namingFaults(request, readBody(response, limit));
      if (body === undefined) {
        throw new HodError('corrupt', {
          what: request.purpose,
          object: request.object,
          why: `${this.registry} sent more than ${limit} bytes`,
        });
      }
      return { statusCode: response.statusCode, headers: response.headers, body };
    });
  }

  /** The body of an answer as it arrives, with faults of the connection named. */
  async *stream(request: RegistryRequest, count: () => void): AsyncGenerator<Uint8Array> {
    const response = await this.send(request, count);
    const pieces: AsyncIterator<unknown> = response.body[Symbol.asyncIterator]();
    try {
      for (;;) {
        const next = await this.namingFaults(request, pieces.next());
        if (next.done === true) {
          return;
        }
        if (next.value instanceof Uint8Array) {
          yield next.value;
        }
      }
    } finally {
      response.body.destroy();
    }
  }

  private async namingFaults<T>(request: RegistryRequest, work: Promise<T>): Promise<T> {
    try {
      return await work;
    } catch (error) {
      throw isNetworkError(error) ? networkProblem(error, request, this.registry) : error;
    }
  }

  /**
   * Sends a request; answers a challenge for a login, and follows redirects. Throws
   * a transient error for failures that may pass, and the error for all others.
   */
  async sendOnce(request: RegistryRequest, count: () => void): Promise<RegistryResponse> {
    if (this.firstAnswer !== undefined) {
      await this.firstAnswer;
      return this.sendWithLogin(request, count);
    }
    const answer = this.sendWithLogin(request, count);
    this.firstAnswer = answer.then(
      () => undefined,
      () => undefined,
    );
    return answer;
  }

  private async sendWithLogin(request: RegistryRequest, count: () => void): Promise<RegistryResponse> {
    const sentWithLogin = this.authorization !== undefined;
    let response = await this.follow(request, count);
    if (response.statusCode === 401 && !sentWithLogin && this.access.credentials !== undefined) {
      const challenge = String(response.headers['www-authenticate'] ?? '');
      if (/^basic\b/i.test(challenge)) {
        await response.body.dump();
        const { username, password } = this.access.credentials;
        this.authorization = `Basic ${Buffer.from(`${username}:${password}`).toString('base64')}`;
        response = await this.follow(request, count);
      }
    }
    const isPage = /^text\/html\b/i.test(String(response.headers['content-type'] ?? ''));
    if (request.expect.includes(response.statusCode) && !isPage) {
      return response;
    }
    throw await statusProblem(request, response, {
      registry: this.registry,
      loggedIn: this.authorization !== undefined,
    });
  }

  private async follow(registryRequest: RegistryRequest, count: () => void): Promise<RegistryResponse> {
    const { method, headers, body } = registryRequest;
    let url = new URL(registryRequest.target, this.origin);
    for (let hop = 0; ; hop += 1) {
      count();
      // A credential goes to the registry that it is for, never to where the registry points.
      const own = url.origin === new URL(this.origin).origin;
      const authorization = own && this.authorization !== undefined ? { authorization: this.authorization } : {};
      const response = await this.namingFaults(
        registryRequest,
        request(url, {
          method,
          headers: { ...headers, ...authorization },
          body: body ?? null,
          dispatcher: this.dispatcher,
        }),
      );
      const location = response.headers['location'];
      const readsOnly = method === 'GET' || method === 'HEAD';
      if (!readsOnly || !redirects.includes(response.statusCode) || typeof location !== 'string') {
        return response;
      }
      await response.body.dump();
      if (hop === redirectLimit) {
        throw new HodError('unavailable', {
          what: registryRequest.purpose,
          object: registryRequest.object,
          why: `${this.registry} redirects in a circle`,
        });
      }
      url = new URL(location, url);
    }
  }
}

/** Connections to the registries of one run, made as they are needed. */
export class Connections {
  private readonly open = new Map<string, Connection>();
  private readonly agent = new Agent({
    connect: { lookup: lookupLocally, timeout: 10_000 },
    headersTimeout: 120_000,
    bodyTimeout: 60_000,
  });

  /** @param access How to reach each registry; asked once for each. */
  constructor(private readonly access: (registry: string) => RegistryAccess) {}

  /** The connection to a registry. */
  to(registry: string): Connection {
    const known = this.open.get(registry);
    if (known !== undefined) {
      return known;
    }
    const made = new Connection(registry, this.access(registry), this.agent);
    this.open.set(registry, made);
    return made;
  }

  /** Closes every connection. */
  async close(): Promise<void> {
    await this.agent.destroy();
  }
}

/** Names under `localhost` are this machine, whatever the resolver says (RFC 6761 §6.3). */
const lookupLocally: LookupFunction = (hostname, options, callback) => {
  if (hostOf(hostname).endsWith('.localhost')) {
    lookup('127.0.0.1', options, callback);
  } else {
    lookup(hostname, options, callback);
  }
};
