import { atMost } from '../core/bytes';
import { isThisMachine, whyNotRedirected } from '../core/access/destinations';
import type { Secrets } from '../core/access/secrets';
import { HodError } from '../core/errors';
import type { CredentialSource } from './login/credential';
import { Login, type Authorization } from './login/login';
import type { KnownTokenService } from './login/token-services';
import {
  addressIn,
  locationOf,
  lookIntoLog,
  type About,
  type FetchedResponse,
  type RegistryRequest,
  type RegistryResponse,
} from '../http/exchange';
import type { Limits } from '../http/limit';
import { Advance, pausesBetween, withRetries, type Retries } from '../http/retry';
import { isPage, statusProblem } from '../http/status-problems';
import type { TlsOptions, Wire } from '../http/wire';
import type { Wires } from '../http/wires';
import type { HashThreads } from './hash-threads';
import { Intake, type IntakeMemory } from './intake';

/** How to reach a registry, and as whom. */
export interface RegistryAccess {
  /** False: plain HTTP. Undefined: HTTPS, but plain HTTP for a registry on this machine. */
  tls: false | TlsOptions | undefined;
  credentials: CredentialSource;
  tokenService: KnownTokenService;
  intake: IntakeMemory;
  /** Makes a repository that does not exist, where it must exist before the first push. */
  createRepository: ((repository: string) => Promise<void>) | undefined;
}

/** What all connections of a run share. */
export interface Shared {
  readonly limits: Limits;
  readonly hashing: HashThreads;
  readonly secrets: Secrets;
}

/**
 * More redirects are a circle.
 * @limit redirects of one request | redirects | `redirect-circle`
 */
const redirectLimit = 5;
const redirects = [301, 302, 303, 307, 308];

/** A way to one registry: sends requests with the login that they need, as many at once as the limits of the run allow. */
export class Connection {
  private readonly origin: URL;
  /** How the registry takes content. */
  readonly intake: Intake;
  private readonly wire: Wire;
  private readonly login: Login;
  /** The first request goes alone: it finds out for all others whether a login is asked for. */
  private firstAnswer: Promise<void> | undefined;
  private readonly created = new Map<string, Promise<void>>();

  /** @param wires Reach hosts that a registry points to, which its certificates are not meant for. */
  constructor(
    readonly registry: string,
    private readonly access: RegistryAccess,
    private readonly wires: Wires,
    private readonly shared: Shared,
  ) {
    const secure = access.tls !== false && (access.tls !== undefined || !isThisMachine(registry));
    this.origin = new URL(`${secure ? 'https' : 'http'}://${registry}`);
    this.wire = wires.own(this.origin, access.tls === false ? undefined : access.tls);
    const { configured } = access.tokenService;
    if (configured !== undefined) {
      wires.name(configured);
    }
    this.intake = new Intake(registry, access.intake);
    this.login = new Login(this.origin, access, wires, shared.secrets);
  }

  /** How requests to this registry are tried again. */
  get retries(): Retries {
    return this.wire.retries;
  }

  get hashing(): HashThreads {
    return this.shared.hashing;
  }

  get secrets(): Secrets {
    return this.shared.secrets;
  }

  /** Takes the login from its source, whether the registry asks for it or not. Throws where the source does. */
  prepareLogin(): Promise<void> {
    return this.login.prepare();
  }

  /**
   * Asks for the front of the registry (OCI distribution specification, "Determining Support"), with the login where it asks
   * for one. Answers whether it did; throws where it refuses it.
   */
  async tryLogin(): Promise<boolean> {
    const request = { method: 'GET', target: '/v2/', scopes: [], expect: [200] } as const;
    const about = { purpose: 'could not try a login', object: this.registry };
    await this.ask({ ...request, ...about }, () => undefined);
    return this.login.used !== undefined;
  }

  /** Does work that moves a blob piece by piece, when its turn comes. Within it, only {@link sendOnce} and {@link stream} move bytes. */
  movingBulk<T>(work: () => Promise<T>): Promise<T> {
    return this.shared.limits.bulk(work);
  }

  /** Does work that holds a blob in memory, when its turn comes. Within it, every request waits for a turn of its own. */
  holdingBlob<T>(work: () => Promise<T>): Promise<T> {
    return this.shared.limits.smallBlobs(work);
  }

  /** Sends a small request when its turn comes, once. */
  sendSmall(request: RegistryRequest, count: () => void): Promise<RegistryResponse> {
    return this.shared.limits.requests(() => this.sendOnce(request, count));
  }

  /** Sends a small request, again where the failure may pass. Nobody reads the body of the answer. */
  async ask(request: RegistryRequest, count: () => void): Promise<RegistryResponse> {
    return this.shared.limits.requests(() =>
      withRetries(async () => {
        const response = await this.sendOnce(request, count);
        await this.dump(response, request);
        return response;
      }, this.retries),
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
        await this.refusePage(request, response);
        const { statusCode, headers, url } = response;
        const body = await this.naming(atMost(limit, response.body), request);
        if (body === undefined) {
          throw new HodError('answer-too-large', {
            what: request.purpose,
            object: request.object,
            why: `${url.host} sent more than ${limit} bytes`,
            next: 'check the log of the registry; nothing was tagged',
          });
        }
        return { statusCode, headers, url, body };
      }, this.retries),
    );
  }

  /**
   * The body of an answer from a byte on, as it arrives. Where it breaks off, the rest is asked for
   * (RFC 9110 §14.2). For whoever has a turn already.
   */
  async *stream(request: RegistryRequest, from: number, count: () => void): AsyncGenerator<Uint8Array> {
    const advance = new Advance(from);
    const pause = pausesBetween(this.retries, () => advance.made());
    for (;;) {
      let response: RegistryResponse | undefined;
      try {
        response = await this.sendOnce(rangeOf(request, advance.reached), count);
        await this.refusePage(request, response);
        const pieces: AsyncIterator<unknown> = response.body[Symbol.asyncIterator]();
        let dropped = advance.reached - startOf(response, advance.reached, request);
        for (let next = await this.naming(pieces.next(), request); next.done !== true;) {
          if (next.value instanceof Uint8Array) {
            const piece = next.value.subarray(dropped);
            dropped -= next.value.length - piece.length;
            advance.reached += piece.length;
            yield piece;
          }
          next = await this.naming(pieces.next(), request);
        }
        return;
      } catch (error) {
        await pause(error);
      } finally {
        response?.body.destroy();
      }
    }
  }

  /** Reads the rest of an answer and forgets it. Throws what a fault of the connection means. */
  dump(response: RegistryResponse, about: About): Promise<void> {
    return this.naming(response.body.dump(), about);
  }

  /** Whether a command is configured that makes repositories. */
  get createsRepositories(): boolean {
    return this.access.createRepository !== undefined;
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
    // Only the registry itself may ask for a login: not where it led to.
    if (response.statusCode === 401 && this.isOwn(response.url) && !authorization.fresh) {
      if (authorization.header !== undefined) {
        this.login.forget(request.scopes);
      }
      const challenge = [response.headers['www-authenticate'] ?? ''].flat().join(', ');
      if (await this.orForget(response, () => this.login.accept(challenge))) {
        await this.dump(response, request);
        authorization = await this.login.authorize(request.scopes, request);
        response = await this.follow(request, authorization.header, count);
      }
    }
    if (request.expect.includes(response.statusCode)) {
      return response;
    }
    throw await this.problemOf(request, response, authorization);
  }

  private async problemOf(
    request: RegistryRequest,
    response: RegistryResponse,
    { header }: Pick<Authorization, 'header'>,
  ): Promise<HodError> {
    const { statusCode, url } = response;
    if (!this.isOwn(url) && (statusCode === 401 || statusCode === 403)) {
      await this.dump(response, request);
      return new HodError('answer-unexpected', {
        what: request.purpose,
        object: request.object,
        why: `${this.registry} leads to ${url.host}, which answered ${statusCode}; a login is not sent there`,
        next: 'check the log of the registry: the address it redirects to must be readable without a login',
      });
    }
    return statusProblem(request, response, this.isOwn(url) ? this.registry : url.host, {
      used: this.login.used,
      tokens: header?.startsWith('Bearer ') === true,
      secrets: this.secrets,
    });
  }

  /** Throws where the answer is a page for people, and not what was asked for. */
  private async refusePage(request: RegistryRequest, response: RegistryResponse): Promise<void> {
    if (response.statusCode === 200 && isPage(response)) {
      throw await this.problemOf(request, response, { header: undefined });
    }
  }

  private async follow(
    request: RegistryRequest,
    authorization: string | undefined,
    count: () => void,
  ): Promise<RegistryResponse> {
    const { method, headers, bulk } = request;
    let url = addressIn(request.target, { url: this.origin }, request);
    let from = this.origin;
    let left = false;
    for (let hop = 0; ; hop += 1) {
      this.refuseUnsafe(request, from, url);
      count();
      left ||= !this.isOwn(url);
      // A credential goes to the registry that it is for, never to where the registry points, nor to where that points.
      const sent = { ...headers, ...(!left && authorization !== undefined ? { authorization } : {}) };
      const wire = this.isOwn(url) ? this.wire : this.wires.to(url);
      const response = await wire.send({ url, method, headers: sent, body: request.body?.(), bulk }, request);
      const readsOnly = method === 'GET' || method === 'HEAD';
      const leadsOn = readsOnly && redirects.includes(response.statusCode);
      const next = await this.orForget(response, () => (leadsOn ? locationOf(response, request) : undefined));
      if (next === undefined) {
        return response;
      }
      await this.dump(response, request);
      if (hop === redirectLimit) {
        throw new HodError('redirect-circle', {
          what: request.purpose,
          object: request.object,
          why: `${this.registry} redirects in a circle`,
          next: lookIntoLog,
        });
      }
      from = url;
      url = next;
    }
  }

  /** Looks at the head of an answer. Where that fails, nobody waits for the body: its connection is free again. */
  private async orForget<T>(response: RegistryResponse, read: () => T | Promise<T>): Promise<T> {
    try {
      return await read();
    } catch (error) {
      void response.body.dump().catch(() => undefined);
      throw error;
    }
  }

  private isOwn(url: URL): boolean {
    return url.origin === this.origin.origin;
  }

  private refuseUnsafe({ purpose, object }: About, from: URL, to: URL): void {
    const why = whyNotRedirected(this.origin, from, to);
    if (why !== undefined) {
      throw new HodError('destination-unsafe', {
        what: purpose,
        object,
        why: `${why}; content is not fetched from there, nor sent there`,
        next: lookIntoLog,
      });
    }
  }

  private naming<T>(work: Promise<T>, about: About): Promise<T> {
    return this.wire.naming(work, about, this.registry);
  }
}

/** A request for the content from a byte on. */
function rangeOf(request: RegistryRequest, from: number): RegistryRequest {
  const { headers, expect, bulk = 0 } = request;
  return from === 0
    ? request
    : { ...request, headers: { ...headers, range: `bytes=${from}-` }, expect: [...expect, 206], bulk: bulk - from };
}

/** The first byte that an answer holds (RFC 9110 §15.3.7): a server may answer with the whole. Throws where it is another than was asked for. */
function startOf({ statusCode, headers, url }: RegistryResponse, wanted: number, about: About): number {
  const start = /^bytes (\d+)-/.exec(String(headers['content-range'] ?? ''))?.[1];
  if (statusCode === 206 && Number(start) !== wanted) {
    throw new HodError('answer-unexpected', {
      what: about.purpose,
      object: about.object,
      why: `${url.host} was asked for what follows byte ${wanted}, and answers with what follows byte ${start ?? 'unknown'}`,
      next: lookIntoLog,
    });
  }
  return statusCode === 206 ? wanted : 0;
}
