import { randomUUID } from 'node:crypto';
import type { IncomingMessage, ServerResponse } from 'node:http';
import { createRemoteJWKSet, decodeJwt, errors, generateKeyPair, jwtVerify, SignJWT, type CryptoKey } from 'jose';
import * as z from 'zod';
import { parseJson } from '../../core/json';
import { answerJson, readText, serve, type RunningServer } from '../http';

/** What somebody may do, in repositories whose names match a pattern with `*`. */
export interface GrantedRight {
  repository: string;
  actions: readonly ('pull' | 'push')[];
}

/** Which jobs may have which rights. */
export interface TrustRule {
  issuer: string;
  audience: string;
  /** A pattern with `*`: `project:skerry-line:branch:*`. */
  subject: string;
  rights: readonly GrantedRight[];
}

/** How a token service behaves. */
export interface TokenServiceOptions {
  port: number;
  /** The name that registries call it by. */
  service: string;
  rules?: readonly TrustRule[];
  users?: readonly { username: string; password: string; rights: readonly GrantedRight[] }[];
  /** How long access tokens and credentials are good, in seconds. */
  lifetime?: number;
  /** Answer to POST only, as newer token services do. */
  postOnly?: boolean;
  /** Signs access tokens; a new key where it is not given. With the certificates of the key for registries that check them. */
  signing?: { key: CryptoKey; certificates: readonly string[] } | undefined;
  onRequest?: (request: { method: string; path: string; scopes: string[] }) => void;
}

/** A right in an access token, as registries read it. */
const accessSchema = z.array(z.object({ type: z.string(), name: z.string(), actions: z.array(z.string()) }));
export type AccessClaim = z.infer<typeof accessSchema>;

/** A stand-in token service that is running. */
export interface TokenService extends RunningServer {
  readonly realm: string;
  readonly exchange: string;
  /** The address that `/login/form`, `/login/json` and `/login/header` are at: exchanges that are not of the standard. */
  readonly base: string;
  readonly service: string;
  /** The rights in an access token of this service; undefined where it is not good. */
  verify(token: string): Promise<AccessClaim | undefined>;
}

/** The user name of jobs whose exchange answers with a password. */
const jobUser = 'job';

/**
 * The ways in which an identity is exchanged here: where it stands in the request, and what is answered. The first is the
 * standard (RFC 8693); the others are as services have them that came before it.
 */
const dialects: Readonly<
  Record<
    string,
    {
      method: 'GET' | 'POST';
      tokenOf: (sent: SentIdentity) => string;
      answer: (credential: string, lifetime: number) => object;
    }
  >
> = {
  '/exchange': {
    method: 'POST',
    tokenOf: ({ form }) => form.get('subject_token') ?? '',
    answer: (credential, lifetime) => ({
      access_token: credential,
      issued_token_type: 'urn:ietf:params:oauth:token-type:access_token',
      token_type: 'N_A',
      expires_in: lifetime,
    }),
  },
  '/login/form': {
    method: 'POST',
    tokenOf: ({ form }) => form.get('identity') ?? '',
    answer: (credential, lifetime) => ({
      user: jobUser,
      secret: credential,
      valid_until: new Date(Date.now() + lifetime * 1000).toISOString(),
    }),
  },
  '/login/json': {
    method: 'POST',
    tokenOf: ({ json }) => json?.identity.token ?? '',
    answer: (credential, lifetime) => ({ session: { token: credential, seconds: lifetime } }),
  },
  '/login/header': {
    method: 'GET',
    tokenOf: ({ authorization }) => authorization.replace(/^Bearer /, ''),
    answer: (credential) => ({ login: Buffer.from(`${jobUser}:${credential}`).toString('base64') }),
  },
};

/** What came with a request for a login. */
interface SentIdentity {
  readonly form: URLSearchParams;
  readonly json: { readonly identity: { readonly token: string } } | undefined;
  readonly authorization: string;
}
const jsonLogin = z.object({ identity: z.object({ token: z.string() }) });

/** A refusal in the words of RFC 6749 §5.2 and RFC 8693 §2.2.2. */
class Refusal extends Error {
  constructor(
    readonly code: string,
    description: string,
    readonly status = 400,
  ) {
    super(description);
  }
}

interface Identity {
  readonly subject: string;
  readonly rights: readonly GrantedRight[];
}

/** What a token service gives out, and by which rules. */
class Grants {
  private readonly credentials = new Map<string, Identity & { readonly expires: number }>();
  private readonly keySets = new Map<string, ReturnType<typeof createRemoteJWKSet>>();

  constructor(
    private readonly options: TokenServiceOptions,
    private readonly signing: NonNullable<TokenServiceOptions['signing']>,
    /** Seconds. */
    readonly lifetime: number,
  ) {}

  /** Exchanges a job identity for a credential that is good for the lifetime. */
  async admit(token: string): Promise<string> {
    const issuer = issuerOf(token);
    const trusted = (this.options.rules ?? []).filter((rule) => rule.issuer === issuer);
    if (trusted.length === 0) {
      throw new Refusal('invalid_grant', 'the issuer is not known here');
    }
    const keys = this.keySets.get(issuer) ?? createRemoteJWKSet(new URL(`${issuer}/keys`));
    this.keySets.set(issuer, keys);
    const { payload } = await jwtVerify(token, keys, { issuer }).catch((error: unknown) => {
      const why = error instanceof errors.JWTExpired ? 'it ran out' : 'no known key has signed it';
      throw new Refusal('invalid_grant', why);
    });
    const audiences = [payload.aud ?? []].flat();
    const meant = trusted.filter(({ audience }) => audiences.includes(audience));
    if (meant.length === 0) {
      throw new Refusal('invalid_target', 'it is meant for somebody else');
    }
    const matching = meant.filter(({ subject }) => matches(subject, payload.sub ?? ''));
    if (matching.length === 0) {
      throw new Refusal('access_denied', `no rule names ${payload.sub ?? 'nobody'}`);
    }
    const credential = randomUUID();
    this.credentials.set(credential, {
      subject: payload.sub ?? '',
      rights: matching.flatMap(({ rights }) => rights),
      expires: Date.now() + this.lifetime * 1000,
    });
    return credential;
  }

  userOf(username: string | null, password: string | null): Identity {
    const { users = [] } = this.options;
    const admitted = username === jobUser ? this.credentials.get(password ?? '') : undefined;
    if (admitted !== undefined && admitted.expires >= Date.now()) {
      return admitted;
    }
    const found = users.find((each) => each.username === username && each.password === password);
    if (found === undefined) {
      throw new Refusal('invalid_client', 'the user name or password is wrong', 401);
    }
    return { subject: found.username, rights: found.rights };
  }

  /** Who asks by a form (RFC 6749): with a password, or with a credential. */
  identityOf(form: URLSearchParams): Identity {
    if (form.get('grant_type') === 'password') {
      return this.userOf(form.get('username'), form.get('password'));
    }
    const found = this.credentials.get(form.get('refresh_token') ?? '');
    if (found === undefined || found.expires < Date.now()) {
      throw new Refusal('invalid_grant', 'the credential is not known, or ran out', 401);
    }
    return found;
  }

  /** An access token with the part of the scopes that somebody has the rights for. */
  async accessToken({ subject, rights }: Identity, scopes: readonly string[]): Promise<object> {
    const { signing, lifetime } = this;
    const { service } = this.options;
    const now = Math.floor(Date.now() / 1000);
    const token = await new SignJWT({ access: grantedAccess(rights, scopes) })
      .setProtectedHeader({
        alg: 'RS256',
        typ: 'JWT',
        ...(signing.certificates.length > 0 ? { x5c: [...signing.certificates] } : {}),
      })
      .setIssuer(service)
      .setSubject(subject)
      .setAudience(service)
      .setIssuedAt(now)
      .setNotBefore(now - 10)
      .setExpirationTime(now + lifetime)
      .setJti(randomUUID())
      .sign(signing.key);
    return { token, access_token: token, expires_in: lifetime };
  }
}

/**
 * Starts a token service on loopback. It exchanges job identities for credentials by its trust rules
 * (RFC 8693), and gives out access tokens for registries, by GET and by POST (RFC 6749).
 */
export async function startTokenService(options: TokenServiceOptions): Promise<TokenService> {
  const { service, lifetime = 300 } = options;
  const pair = await generateKeyPair('RS256');
  const signing = options.signing ?? { key: pair.privateKey, certificates: [] };
  const grants = new Grants(options, signing, lifetime);
  const server = await serve(options.port, async (request: IncomingMessage, response: ServerResponse) => {
    try {
      answerJson(response, 200, await answerFor(request, options, grants));
    } catch (error) {
      if (!(error instanceof Refusal)) {
        throw error;
      }
      answerJson(response, error.status, { error: error.code, error_description: error.message });
    }
  });
  const base = `http://127.0.0.1:${server.port}`;
  return {
    ...server,
    realm: `${base}/token`,
    exchange: `${base}/exchange`,
    base,
    service,
    async verify(token) {
      try {
        const { payload } = await jwtVerify(token, pair.publicKey, { audience: service, issuer: service });
        return accessSchema.parse(payload['access']);
      } catch {
        return undefined;
      }
    },
  };
}

/** Answers a request. */
async function answerFor(request: IncomingMessage, options: TokenServiceOptions, grants: Grants): Promise<object> {
  const url = new URL(request.url ?? '/', 'http://tokens');
  const method = request.method ?? 'GET';
  const text = method === 'POST' ? await readText(request) : '';
  const form = method === 'POST' ? new URLSearchParams(text) : url.searchParams;
  const scopes = form.getAll('scope').flatMap((each) => each.split(' '));
  options.onRequest?.({ method, path: url.pathname, scopes });
  const dialect = new Map(Object.entries(dialects)).get(url.pathname);
  if (dialect?.method === method) {
    const json = jsonLogin.safeParse(parseJson(Buffer.from(text)) ?? null).data;
    const { authorization = '' } = request.headers;
    return dialect.answer(await grants.admit(dialect.tokenOf({ form, json, authorization })), grants.lifetime);
  }
  if (url.pathname === '/token' && method === 'POST') {
    return grants.accessToken(grants.identityOf(form), scopes);
  }
  if (url.pathname === '/token' && method === 'GET' && options.postOnly !== true) {
    const { authorization } = request.headers;
    if (authorization === undefined) {
      return grants.accessToken({ subject: '', rights: [] }, scopes);
    }
    const [username = '', ...password] = Buffer.from(authorization.replace(/^Basic /, ''), 'base64')
      .toString()
      .split(':');
    return grants.accessToken(grants.userOf(username, password.join(':')), scopes);
  }
  throw new Refusal('not_found', 'there is nothing here', 404);
}

function issuerOf(token: string): string {
  try {
    return decodeJwt(token).iss ?? '';
  } catch {
    throw new Refusal('invalid_request', 'it is not a JSON Web Token');
  }
}

/** The part of the scopes that the rights allow. */
function grantedAccess(rights: readonly GrantedRight[], scopes: readonly string[]): AccessClaim {
  return scopes.flatMap((scope) => {
    const match = /^repository:(.+):([a-z,]+)$/.exec(scope);
    const [, name, wanted] = match ?? [];
    if (name === undefined || wanted === undefined) {
      return [];
    }
    const allowed = rights.filter(({ repository }) => matches(repository, name)).flatMap(({ actions }) => actions);
    const actions = wanted.split(',').filter((action) => allowed.some((each) => each === action));
    return actions.length === 0 ? [] : [{ type: 'repository', name, actions }];
  });
}

/** Whether a text matches a pattern in which `*` stands for anything. */
function matches(pattern: string, text: string): boolean {
  const parts = pattern.split('*').map((part) => part.replace(/[.*+?^${}()|[\]\\]/g, '\\$&'));
  return new RegExp(`^${parts.join('.*')}$`).test(text);
}
