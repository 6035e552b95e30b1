import type { Secrets } from '../core/access/secrets';
import { HodError } from '../core/errors';
import { isLoopback } from '../core/oci/reference';
import type { CredentialSource } from './login/credential';
import { Login } from './login/login';
import type { About, FetchedResponse, RegistryRequest, RegistryResponse } from './http/exchange';
import { limitsFor, type Limits } from './http/limit';
import { readBody } from './http/read-body';
import { withRetries } from './http/retry';
import { isPage, statusProblem } from './http/status-problems';
import { Wire, type Patience, type TlsOptions, type WireEvent } from './http/wire';

/** How to reach a registry, and as whom. */
export interface RegistryAccess {
  /** False: plain HTTP. Undefined: HTTPS, but plain HTTP for a registry on this machine. */
  tls: false | TlsOptions | undefined;
  credentials: CredentialSource;
  /** Makes a repository that does not exist, where it must exist before the first push. */
  createRepository: ((repository: string) => Promise<void>) | undefined;
}

/** What all connections of a run share. */
interface Shared {
  readonly limits: Limits;
  readonly secrets: Secrets;
}

const redirectLimit = 5;
const redirects = [301, 302, 303, 307, 308];

/** A way to one registry: sends requests with the login that they need, as many at once as the limits of the run allow. */
export class Connection {
  private readonly origin: URL;
  private readonly login: Login;
  /** The first request goes alone: it finds out for all others whether a login is asked for. */
  private firstAnswer: Promise<void> | undefined;
  private readonly created = new Map<string, Promise<void>>();

  /** @param otherWire Reaches hosts that a registry points to, which its certificates are not meant for. */
  constructor(
    readonly registry: string,
    private readonly access: RegistryAccess,
    private readonly wire: Wire,
    private readonly otherWire: Wire,
    private readonly shared: Shared,
  ) {
    const secure = access.tls !== false && (access.tls !== undefined || !isLoopback(registry));
    this.origin = new URL(`${secure ? 'https' : 'http'}://${registry}`);
    this.login = new Login(registry, access.credentials, otherWire, shared.secrets);
  }

  get patience(): Patience {
    return this.wire.patience;
  }

  get secrets(): Secrets {
    return this.shared.secrets;
  }

  /** Does work that moves a blob, when its turn comes. Within it, only {@link sendOnce} and {@link stream} move bytes. */
  movingBlob<T>(work: () => Promise<T>): Promise<T> {
    return this.shared.limits.blobs(work);
  }

  /** Sends a small request, again where the failure may pass. Nobody reads the body of the answer. */
  async ask(request: RegistryRequest, count: () => void): Promise<RegistryResponse> {
    return this.shared.limits.requests(() =>
      withRetries(async () => {
        const response = await this.sendOnce(request, count);
        await response.body.dump();
        return response;
      }, this.patience.retry),
    );
  }

  /**
   * Sends a small request and reads the whole answer, again where either fails in a way that may pass.
   * Throws `corrupt` for a body of more than `limit` bytes.
   */
  async fetch(request: RegistryRequest, limit: number, count: () => void): Promise<FetchedResponse> {
    return this.shared.limits.requests(() =>
      withRetries(async () => {
        const response = await this.sendOnce(request, count);
        const body = await this.naming(readBody(response, limit), request);
        if (body === undefined) {
          throw new HodError('answer-too-large', {
            what: request.purpose,
            object: request.object,
            why: `${this.registry} sent more than ${limit} bytes`,
            next: 'look into the log of the registry; nothing was tagged',
          });
        }
        return { statusCode: response.statusCode, headers: response.headers, body };
      }, this.patience.retry),
    );
  }

  /** The body of an answer as it arrives, with faults of the connection named. For whoever has a turn already. */
  async *stream(request: RegistryRequest, count: () => void): AsyncGenerator<Uint8Array> {
    const response = await withRetries(() => this.sendOnce(request, count), this.patience.retry);
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
    const { createRepository } = this.access;
    if (createRepository === undefined) {
      return false;
    }
    const making = this.created.get(name) ?? createRepository(name);
    this.created.set(name, making);
    await making;
    return true;
  }

  /**
   * Sends a request, for whoever has a turn already; answers a challenge for a login, and follows
   * redirects. Throws a transient error for failures that may pass, and the error for all others.
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
    if (request.expect.includes(response.statusCode) && !isPage(response)) {
      return response;
    }
    throw await statusProblem(request, response, this.registry, {
      used: this.login.used,
      tokens: authorization.header?.startsWith('Bearer ') === true,
      secrets: this.secrets,
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
        throw new HodError('redirect-circle', {
          what: request.purpose,
          object: request.object,
          why: `${this.registry} redirects in a circle`,
          next: 'look into the log of the registry, and of what stands in front of it',
        });
      }
      url = new URL(location, url);
    }
  }

  private naming<T>(work: Promise<T>, about: About): Promise<T> {
    return this.wire.naming(work, about, this.registry);
  }
}

/** What the connections of one run need. */
export interface ConnectionsOptions {
  /** How to reach each registry; asked once for each. */
  access: (registry: string) => Promise<RegistryAccess>;
  /** How many blobs move at once. */
  jobs: number;
  secrets: Secrets;
  patience: Patience;
  /** Told of every request. */
  observe: (event: WireEvent) => void;
}

/** Connections to the registries of one run, made as they are needed. */
export class Connections {
  private readonly open = new Map<string, Promise<Connection>>();
  private readonly wires: Wire[] = [];
  private readonly plain: Record<'local' | 'remote', Wire>;
  private readonly shared: Shared;

  constructor(private readonly options: ConnectionsOptions) {
    this.shared = { limits: limitsFor(options.jobs), secrets: options.secrets };
    this.plain = { local: this.wire(undefined, true), remote: this.wire(undefined, false) };
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
    const plain = isLoopback(registry) ? this.plain.local : this.plain.remote;
    const access = await this.options.access(registry);
    const tls = access.tls === false ? undefined : access.tls;
    const own = tls === undefined ? plain : this.wire(tls, isLoopback(registry));
    return new Connection(registry, access, own, plain, this.shared);
  }

  private wire(tls: TlsOptions | undefined, local: boolean): Wire {
    const made = new Wire(tls, this.options.patience, this.options.observe, local);
    this.wires.push(made);
    return made;
  }
}
