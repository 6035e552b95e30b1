import { dirname, join } from 'node:path';
import { keepCredential, type Credential } from '../core/access/credential';
import { helperLogin, loginFileSchema, sharedLoginsFor, type SharedLogin } from '../core/access/login-file';
import type { Secrets } from '../core/access/secrets';
import { HodError, systemErrorCode } from '../core/errors';
import { parseJson } from '../core/json';
import { readSmallFile } from '../system/plain-files';
import { runProgram } from '../system/programs';
import { homeFolder } from './user-files';

/** A login that other tools on this machine use for a registry. */
export interface FoundLogin {
  /** Who keeps it, for people: `una in /home/una/…`. */
  readonly name: string;
  /** Obtains the login; undefined where its helper has none. Throws where the file or the helper cannot be used. */
  readonly obtain: () => Promise<ObtainedLogin | undefined>;
}

/** A login, and where it came from: the error says so where the registry refuses the login. It does not say when it expires. */
interface ObtainedLogin {
  readonly credential: Credential;
  readonly expires: undefined;
  readonly origin: { readonly name: string; readonly next: string };
}

/**
 * A helper may ask a service for a login, and must not stall the run.
 * @limit a login helper | ms | `login-helper`
 */
const helperPatience = 15_000;
/** What a helper says that has no login for a registry. */
const noLogin = /credentials not found/i;

/**
 * The logins that other tools on this machine share for a registry, the first to be used first. Nothing is ever written to
 * their files, and no helper runs before its login is obtained.
 *
 * @param patience How long a helper may take, in milliseconds.
 */
export async function* sharedLogins(
  registry: string,
  secrets: Secrets,
  patience = helperPatience,
): AsyncGenerator<FoundLogin> {
  for (const file of sharedLoginFiles()) {
    try {
      const content = await readLoginFile(file);
      const found = content === undefined ? [] : sharedLoginsFor(content, registry);
      yield* found.map((login) => foundLogin(login, { file, registry, secrets, patience }));
    } catch (error) {
      // It is in the way only where no other place has a login.
      yield {
        name: `${file}, which cannot be read`,
        obtain: () => Promise.reject(error instanceof Error ? error : new Error(String(error))),
      };
    }
  }
}

/** Where container clients keep logins: where their variables say, then at their usual places. */
function sharedLoginFiles(): string[] {
  const from = (name: string, ...below: string[]): string[] => {
    const value = process.env[name];
    return value === undefined || value === '' ? [] : [join(value, ...below)];
  };
  const home = homeFolder();
  const usual = from('XDG_CONFIG_HOME');
  return [
    ...new Set([
      ...from('REGISTRY_AUTH_FILE'),
      ...from('DOCKER_CONFIG', 'config.json'),
      ...from('XDG_RUNTIME_DIR', 'containers', 'auth.json'),
      ...[...usual, ...(home === undefined ? [] : [join(home, '.config')])].map((folder) =>
        join(folder, 'containers', 'auth.json'),
      ),
      ...(home === undefined ? [] : [join(home, '.docker', 'config.json')]),
    ]),
  ];
}

/** Undefined where there is no such file. */
async function readLoginFile(file: string) {
  let content: Buffer;
  try {
    content = await readSmallFile(file);
  } catch (error) {
    if (['ENOENT', 'ENOTDIR'].includes(systemErrorCode(error) ?? '')) {
      return undefined;
    }
    throw loginsUnreadable(
      file,
      error instanceof HodError
        ? 'it is no plain file'
        : `this user cannot read it (${systemErrorCode(error) ?? 'unknown'})`,
    );
  }
  const parsed = loginFileSchema.safeParse(parseJson(content) ?? null);
  if (!parsed.success) {
    // What stands there is not repeated: it may be a secret.
    const at = parsed.error.issues[0]?.path.join('.') ?? '';
    throw loginsUnreadable(file, at === '' ? 'it is not JSON with logins' : `${at} has not the form that logins have`);
  }
  return parsed.data;
}

function loginsUnreadable(file: string, why: string): HodError {
  return new HodError('logins-unreadable', {
    what: 'the logins of other tools cannot be read',
    object: file,
    why,
    next: 'correct the file, or write `shared-logins: false` into hod.yaml',
  });
}

interface FoundIn {
  readonly file: string;
  readonly registry: string;
  readonly secrets: Secrets;
  readonly patience: number;
}

function foundLogin(login: SharedLogin, where: FoundIn): FoundLogin {
  const { file, registry, secrets, patience } = where;
  const next = `log in again with the tool that wrote ${file}; or store a login: hod access store ${registry} --user NAME < FILE`;
  const obtained = (known: Credential, keeper: string): ObtainedLogin => {
    const name = `${known.kind === 'token' ? 'the token' : `the login of ${known.username}`} ${keeper}`;
    return { credential: keepCredential(known, registry, secrets), expires: undefined, origin: { name, next } };
  };
  switch (login.kind) {
    case 'part':
      return {
        name: `${file}, only for ${login.of} (not used: Hod logs in once for each registry)`,
        obtain: () => Promise.resolve(undefined),
      };
    case 'malformed':
      return {
        name: `${file}, malformed`,
        obtain: () =>
          Promise.reject(loginsUnreadable(file, `auths.${login.key}.auth is not a user name and a password`)),
      };
    case 'helper': {
      const program = `docker-credential-${login.helper}`;
      return {
        name: `${program}, named in ${file}`,
        obtain: async () => {
          const answer = await runHelper(program, login.server, { file, patience, secrets });
          return answer && obtained(answer, `from ${program}`);
        },
      };
    }
    default:
      return {
        name: `${login.kind === 'token' ? 'a token' : login.username} in ${file}`,
        obtain: () => Promise.resolve(obtained(login, `in ${file}`)),
      };
  }
}

/** Asks a helper for the login of a server, by the protocol of helpers: `get`, the server on standard input, JSON back. */
async function runHelper(
  program: string,
  server: string,
  { file, patience, secrets }: Pick<FoundIn, 'file' | 'patience' | 'secrets'>,
): Promise<Credential | undefined> {
  const run = await runProgram(program, ['get'], {
    folder: dirname(file),
    input: server,
    timeout: patience,
    group: true,
  });
  const failed = (why: string): HodError =>
    new HodError('login-helper', {
      what: 'a login helper gave no login',
      object: `${program} get`,
      why: `${why} (asked for ${server}, as ${file} says)`,
      next: `run it by hand: echo ${server} | ${program} get; or write \`credentials: none\` under the registry in hod.yaml`,
    });
  if (run.exitCode === undefined) {
    throw failed(run.cause === 'ENOENT' ? 'there is no such program in PATH' : `it was ended: ${run.cause ?? ''}`);
  }
  if (run.exitCode !== 0) {
    // Helpers tell of errors on standard output; a secret stands there only where they succeed.
    const said = (run.stdout.trim() === '' ? run.stderr : run.stdout).trim();
    if (noLogin.test(said)) {
      return undefined;
    }
    throw failed(`it ended with ${run.exitCode}${said === '' ? '' : `: ${secrets.redact(said).slice(-300)}`}`);
  }
  const login = helperLogin(parseJson(Buffer.from(run.stdout)));
  if (login === undefined) {
    throw failed('it did not print {"Username": …, "Secret": …}');
  }
  return login;
}
