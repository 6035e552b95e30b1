import * as z from 'zod';
import { mapOf } from '../json';
import type { Credential } from './credential';

/**
 * The file in which container clients share their logins: JSON, with logins under `auths`, and the names of programs that
 * keep logins under `credHelpers` (for one registry) and `credsStore` (for all).
 */
const entrySchema = z.looseObject({
  auth: z.string().optional(),
  username: z.string().optional(),
  password: z.string().optional(),
  identitytoken: z.string().optional(),
});
const helperSchema = z.string().regex(/^[A-Za-z0-9][A-Za-z0-9._-]*$/);

/** The form of a file of shared logins; other keys are left alone. */
export const loginFileSchema = z.looseObject({
  auths: mapOf(entrySchema).optional(),
  credHelpers: mapOf(helperSchema).optional(),
  credsStore: z.union([z.literal(''), helperSchema]).optional(),
});
export type LoginFile = z.infer<typeof loginFileSchema>;

/** What a file of shared logins has for a registry. */
export type SharedLogin =
  | Credential
  /** A program that keeps the login: `helper` is its name without the usual beginning, `server` what it is asked for. */
  | { readonly kind: 'helper'; readonly helper: string; readonly server: string }
  /** It is for a part of the registry only. */
  | { readonly kind: 'part'; readonly of: string }
  | { readonly kind: 'malformed'; readonly key: string };

/** What a file has for a registry, what is asked first at the beginning. */
export function sharedLoginsFor(
  { auths = new Map(), credHelpers = new Map(), credsStore = '' }: LoginFile,
  registry: string,
): SharedLogin[] {
  const entries = [...auths].filter(([key]) => hostOf(key) === registry);
  const [whole, parts] = [
    entries.filter(([key]) => !isPart(key)),
    entries.filter(([key]) => isPart(key)).map(([key]) => key),
  ];
  const helpers = [...credHelpers].filter(([key]) => hostOf(key) === registry && !isPart(key));
  return [
    ...helpers.map(([server, helper]): SharedLogin => ({ kind: 'helper', helper, server })),
    ...(credsStore === '' || helpers.length > 0
      ? []
      : [{ kind: 'helper', helper: credsStore, server: whole[0]?.[0] ?? registry } as const]),
    ...whole.flatMap(([key, entry]) => loginOf(key, entry)),
    ...parts.map((of): SharedLogin => ({ kind: 'part', of })),
  ];
}

function loginOf(
  key: string,
  { auth = '', username, password, identitytoken = '' }: z.infer<typeof entrySchema>,
): SharedLogin[] {
  if (identitytoken !== '') {
    return [{ kind: 'token', token: identitytoken }];
  }
  if (username !== undefined && password !== undefined && auth === '') {
    return [{ kind: 'password', username, password }];
  }
  if (auth === '') {
    // It stands for a login that a helper keeps.
    return [];
  }
  const decoded = Buffer.from(auth, 'base64').toString('utf8');
  const colon = decoded.indexOf(':');
  // Some clients fill the password up with zero bytes.
  const [user, secret] = [decoded.slice(0, colon), decoded.slice(colon + 1).replace(/\0+$/, '')];
  return colon < 1 || secret === ''
    ? [{ kind: 'malformed', key }]
    : [{ kind: 'password', username: user, password: secret }];
}

/** The registry that a key is for: a host, a URL, or a host with the path of repositories. */
function hostOf(key: string): string {
  return (key.replace(/^https?:\/\//i, '').split('/')[0] ?? '').toLowerCase();
}

/** A key with a path is for a part of the registry, unless it is a URL: those name the version of the protocol. */
function isPart(key: string): boolean {
  return !/^https?:\/\//i.test(key) && key.includes('/');
}

/** What a login helper prints. A user name in angle brackets says that the secret is a token. */
const helperAnswer = z.looseObject({ Username: z.string(), Secret: z.string().min(1) });

/** The login that a helper printed; undefined where it is none. */
export function helperLogin(document: unknown): Credential | undefined {
  const answer = helperAnswer.safeParse(document).data;
  if (answer === undefined) {
    return undefined;
  }
  return answer.Username === '<token>'
    ? { kind: 'token', token: answer.Secret }
    : answer.Username === ''
      ? undefined
      : { kind: 'password', username: answer.Username, password: answer.Secret };
}
