import { HodError } from '../core/errors';
import { isLoopback } from '../core/oci/reference';
import { Login, type CredentialSource } from './authorization';
import type { About, FetchedResponse, RegistryRequest, RegistryResponse } from './exchange';
import { readBody, statusProblem } from './problems';
import { withRetries } from './retry';
import { Wire, type Patience, type TlsOptions, type WireEvent } from './wire';

/** How to reach a registry, and as whom. */
export interface RegistryAccess {
  /** False: plain HTTP. Undefined: HTTPS, but plain HTTP for a registry on this machine. */
  tls: false | TlsOptions | undefined;
  credentials: CredentialSource;
  /** Makes a repository that does not exist, where it must exist before the first push. */
  create: ((repository: string) => Promise<void>) | undefined;
}

const redirectLimit = 5;
const redirects = [301, 302, 303, 307, 308];

/** A way to one registry: sends requests with the login that they need. */
export class Connection {
  private readonly origin: URL;
  private readonly login: Login;
  /** The first request goes alone: it finds out for all others whether a login is asked for. */
  private firstAnswer: Promise<void> | undefined;
  private readonly created = new Map<string, Promise<void>>();

  constructor(
    readonly registry: string,
    private readonly access: RegistryAccess,
    private readonly wire: Wire,
    /** Reaches hosts that a registry points at, which its certificates are not meant for. */
    private readonly otherWire: Wire,
  ) {
    const secure = access.tls !== false && (access.tls !== undefined || !isLoopback(registry));
    this.origin = new URL(`${secure ? 'https' : 'http'}://${registry}`);
    this.login = new Login(registry, access.credentials, wire, otherWire);
  }

  get patience(): Patience {
    return this.wire.patience;
  }

  /** Sends a request, again where the failure may pass. */
  async send(request: RegistryRequest, count: () => void): Promise<RegistryResponse> {
    return withRetries(() => this.sendOnce(request, count), this.patience.retry);
  }

  /**
   * Sends a request and reads the whole answer, again where either fails in a way that may pass.
   * Throws `corrupt` for a body of more than `limit` bytes.
   */
  async fetch(request: RegistryRequest, limit: number, count: () => void): Promise<FetchedResponse> {
    return withRetries(async () => {
      const response = await this.sendOnce(request, count);
      const body = await this.naming(readBody(response, limit), request);
      if (body === undefined) {
        throw new HodError('corrupt', {
          what: request.purpose,
          object: request.object,
          why: `${this.registry} sent more than ${limit} bytes`,
        });
      }
      return { statusCode: response.statusCode, headers: response.headers, body };
    }, this.patience.retry);
  }

  /** The body of an answer as it arrives, with faults of the connection named. */
  async *stream(request: RegistryRequest, count: () => void): AsyncGenerator<Uint8Array> {
    const response = await this.send(request, count);
    const pieces: AsyncIterator<unknown> = response.body[Symbol.asyncIterator]();
    try {
      for (;;) {
        const next = await this.naming(pieces.next(), request);
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

  /** Makes a repository with the configured command, once. Answers false where none is configured. */
  async createRepository(name: string): Promise<boolean> {
    const { create } = this.access;
    if (create === undefined) {
      return false;
    }
    const making = this.created.get(name) ?? create(name);
    this.created.set(name, making);
    await making;
    return true;
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
    let authorization = await this.login.authorize(request.scopes, request);
    let response = await this.follow(request, authorization.header, count);
    if (response.statusCode === 401 && !authorization.fresh) {
      if (authorization.header !== undefined) {
        this.login.forget(request.scopes);
      }
      if (await this.login.accept(String(response.headers['www-authenticate'] ?? ''))) {
        await response.body.dump();
        authorization = await this.login.authorize(request.scopes, request);
        response = await this.follow(request, authorization.header, count);
      }
    }
    const isPage = /^text\/html\b/i.test(String(response.headers['content-type'] ?? ''));
    if (request.expect.includes(response.statusCode) && !isPage) {
      return response;
    }
    throw await statusProblem(request, response, this.registry, {
      used: this.login.used,
      tokens: authorization.header?.startsWith('Bearer ') === true,
    });
  }

  private async follow(
    request: RegistryRequest,
    authorization: string | undefined,
    count: () => void,
  ): Promise<RegistryResponse> {
    const { method, headers } = request;
    let url = new URL(request.target, this.origin);
    for (let hop = 0; ; hop += 1) {
      count();
      // A credential goes to the registry that it is for, never to where the registry points.
      const own = url.origin === this.origin.origin;
      const sent = { ...headers, ...(own && authorization !== undefined ? { authorization } : {}) };
      const wire = own ? this.wire : this.otherWire;
      const response = await wire.send({ url, method, headers: sent, body: request.body?.() }, request);
      const location = response.headers['location'];
      const readsOnly = method === 'GET' || method === 'HEAD';
      if (!readsOnly || !redirects.includes(response.statusCode) || typeof location !== 'string') {
        return response;
      }
      await response.body.dump();
      if (hop === redirectLimit) {
        throw new HodError('unavailable', {
          what: request.purpose,
          object: request.object,
          why: `${this.registry} redirects in a circle`,
        });
      }
      url = new URL(location, url);
    }
  }

  private naming<T>(work: Promise<T>, about: About): Promise<T> {
    return this.wire.naming(work, about, this.registry);
  }
}

/** Connections to the registries of one run, made as they are needed. */
export class Connections {
  private readonly open = new Map<string, Promise<Connection>>();
  private readonly wires: Wire[] = [];
  private readonly shared: Record<'local' | 'remote', Wire>;

  /**
   * @param access How to reach each registry; asked once for each.
   * @param observe Told of every request.
   */
  constructor(
    private readonly access: (registry: string, wire: Wire) => Promise<RegistryAccess>,
    private readonly patience: Patience,
    private readonly observe: (event: WireEvent) => void,
  ) {
    this.shared = { local: this.wire(undefined, true), remote: this.wire(undefined, false) };
  }

  /** The connection to a registry. */
  to(registry: string): Promise<Connection> {
    const known = this.open.get(registry) ?? this.connect(registry);
    this.open.set(registry, known);
    return known;
  }

  /** Closes every connection. */
  async close(): Promise<void> {
    await Promise.all(this.wires.map((each) => each.close()));
  }

  private async connect(registry: string): Promise<Connection> {
    const shared = isLoopback(registry) ? this.shared.local : this.shared.remote;
    const access = await this.access(registry, shared);
    const tls = access.tls === false ? undefined : access.tls;
    return new Connection(registry, access, tls === undefined ? shared : this.wire(tls, isLoopback(registry)), shared);
  }

  private wire(tls: TlsOptions | undefined, local: boolean): Wire {
    const made = new Wire(tls, this.patience, this.observe, local);
    this.wires.push(made);
    return made;
  }
}
