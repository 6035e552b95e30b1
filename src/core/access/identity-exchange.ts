import * as z from 'zod';
import { mapTexts, valueAt } from '../json';
import { fillPlaceholders } from '../placeholders';
import type { Credential } from './credential';

/**
 * How the identity of a job is exchanged for a login. Whatever a token service asks for, it is one request with the identity
 * somewhere in it, and an answer with the login somewhere in it.
 */
export interface IdentityExchange {
  readonly url: string;
  readonly method: 'GET' | 'POST';
  /** Values may hold the placeholders of {@link ExchangeValues}; so may those of the body. */
  readonly headers: Readonly<Record<string, string>>;
  readonly body:
    | { readonly form: Readonly<Record<string, string>> }
    | { readonly json: Readonly<Record<string, unknown>> }
    | undefined;
  readonly answer: LoginPlaces;
}

/** Where in the answer the login stands, as paths of keys with dots between them. */
export type LoginPlaces = (
  | { readonly token: string }
  | { readonly username: string; readonly password: string }
  /** The user name is always this one. */
  | { readonly user: string; readonly password: string }
  /** User name and password as basic access sends them (RFC 7617). */
  | { readonly basic: string }
) & {
  /** Seconds from now. */
  readonly 'expires-in'?: string | undefined;
  /** A time (RFC 3339), or seconds since 1970. */
  readonly expires?: string | undefined;
};

/** What placeholders stand for: `{token}` is the identity of the job. */
export type ExchangeValues = {
  readonly token: string;
  readonly audience: string;
  readonly registry: string;
};

/** A login that a service answered with. */
export interface ExchangedLogin {
  readonly login: Credential;
  readonly expires: Date | undefined;
}

/** The exchange of the standard (OAuth 2.0 Token Exchange, RFC 8693 §2). */
export function tokenExchange(url: string): IdentityExchange {
  return {
    url,
    method: 'POST',
    headers: {},
    body: {
      form: {
        grant_type: 'urn:ietf:params:oauth:grant-type:token-exchange',
        subject_token: '{token}',
        subject_token_type: 'urn:ietf:params:oauth:token-type:jwt',
        requested_token_type: 'urn:ietf:params:oauth:token-type:access_token',
        audience: '{registry}',
      },
    },
    answer: { token: 'access_token', 'expires-in': 'expires_in' },
  };
}

/** Whether the identity of the job stands anywhere in the request. */
export function sendsIdentity({ headers, body }: Pick<IdentityExchange, 'headers' | 'body'>): boolean {
  return JSON.stringify([headers, body ?? null]).includes('{token}');
}

/** Headers and body of the request. */
export function exchangeRequest(
  { headers, body }: IdentityExchange,
  values: ExchangeValues,
): { headers: Record<string, string>; body?: string } {
  const own = { accept: 'application/json', ...filledRecord(headers, values) };
  if (body === undefined) {
    return { headers: own };
  }
  return 'form' in body
    ? {
        headers: { 'content-type': 'application/x-www-form-urlencoded', ...own },
        body: new URLSearchParams(filledRecord(body.form, values)).toString(),
      }
    : {
        headers: { 'content-type': 'application/json', ...own },
        body: JSON.stringify(mapTexts(body.json, (text) => fillPlaceholders(text, values))),
      };
}

/** The login in an answer; undefined where it is not where the exchange says. `asked` is when the request was sent. */
export function readExchanged(answer: LoginPlaces, document: unknown, asked: number): ExchangedLogin | undefined {
  const login = loginIn(answer, document);
  return login && { login, expires: expiryIn(answer, document, asked) };
}

function loginIn(answer: LoginPlaces, document: unknown): Credential | undefined {
  const text = (path: string): string | undefined => z.string().min(1).safeParse(valueAt(document, path)).data;
  if ('token' in answer) {
    const token = text(answer.token);
    return token === undefined ? undefined : { kind: 'token', token };
  }
  if ('basic' in answer) {
    const [, username, password] =
      /^([^:]+):(.+)$/s.exec(Buffer.from(text(answer.basic) ?? '', 'base64').toString()) ?? [];
    return username === undefined || password === undefined ? undefined : { kind: 'password', username, password };
  }
  const username = 'user' in answer ? answer.user : text(answer.username);
  const password = text(answer.password);
  return username === undefined || password === undefined ? undefined : { kind: 'password', username, password };
}

const secondsSchema = z.union([z.number(), z.string().regex(/^\d+$/).transform(Number)]).pipe(z.number().positive());

function expiryIn(answer: LoginPlaces, document: unknown, asked: number): Date | undefined {
  const { 'expires-in': lifetime, expires } = answer;
  const seconds = lifetime === undefined ? undefined : secondsSchema.safeParse(valueAt(document, lifetime)).data;
  if (seconds !== undefined) {
    return new Date(asked + seconds * 1000);
  }
  const at = expires === undefined ? undefined : valueAt(document, expires);
  const epoch = secondsSchema.safeParse(at).data;
  const time = epoch === undefined ? Date.parse(String(at)) : epoch * 1000;
  return Number.isNaN(time) ? undefined : new Date(time);
}

function filledRecord(entries: Readonly<Record<string, string>>, values: ExchangeValues): Record<string, string> {
  return Object.fromEntries(Object.entries(entries).map(([key, value]) => [key, fillPlaceholders(value, values)]));
}
