import { existsSync } from 'node:fs';
import { resolve } from 'node:path';
import * as z from 'zod';
import { keepCredential, type Credential } from '../core/access/credential';
import type { Secrets } from '../core/access/secrets';
import { HodError } from '../core/errors';
import { parseJson } from '../core/json';
import { fillPlaceholders } from '../core/placeholders';
import { readSmallFile } from '../system/plain-files';
import type { BareCommand, CredentialCommand, SecretPlace } from './config-schema';
import { runProgram } from '../system/programs';

/**
 * A command that waits for a person never ends in CI.
 * @limit a command that prints a secret | ms | `command-failed`
 */
const commandTimeout = 60_000;

/** What a credential command prints: a password with its user name, or a token; and until when it is good. */
const documentSchema = z.union([
  z.strictObject({ username: z.string().min(1), password: z.string().min(1), expires: z.iso.datetime().optional() }),
  z.strictObject({ token: z.string().min(1), expires: z.iso.datetime().optional() }),
]);

/** Where what hod.yaml names is found, and who remembers what is secret of it. */
export interface SecretContext {
  /** The folder that paths are relative to. */
  readonly folder: string;
  readonly secrets: Secrets;
}

/** Reads a secret from where hod.yaml says it is. Throws `denied`, naming what it is for, where there is none. */
export async function readSecret(place: SecretPlace, purpose: string, context: SecretContext): Promise<string> {
  return context.secrets.keep(await readPlace(place, purpose, context), purpose);
}

/** Reads what is no secret by itself, such as a user name. Throws as {@link readSecret} does. */
export async function readPlace(
  place: SecretPlace,
  purpose: string,
  { folder }: Pick<SecretContext, 'folder'>,
): Promise<string> {
  const [where, value] =
    'env' in place
      ? [`the environment variable ${place.env}`, process.env[place.env]]
      : [`the file ${place.file}`, await readSecretFile(resolve(folder, place.file))];
  const secret = value?.replace(/\r?\n$/, '');
  if (secret === undefined || secret === '') {
    throw new HodError('credential-missing', {
      what: 'a credential is missing',
      object: purpose,
      why: `hod.yaml takes it from ${where}, which is ${value === undefined ? 'not there' : 'empty'}`,
      next: `${'env' in place ? 'set' : 'write it into'} ${where}`,
    });
  }
  return secret;
}

/** Whether there is anything where hod.yaml says that a value is. */
export function isThere(place: SecretPlace, folder: string): boolean {
  return 'env' in place ? (process.env[place.env] ?? '') !== '' : existsSync(resolve(folder, place.file));
}

/** Undefined where it cannot be read. Throws where it is no plain file. */
async function readSecretFile(path: string): Promise<string | undefined> {
  try {
    return (await readSmallFile(path)).toString('utf8');
  } catch (error) {
    if (error instanceof HodError) {
      throw error;
    }
    return undefined;
  }
}

/** The login that a command printed, and until when it is good. */
interface PrintedLogin {
  readonly credential: Credential;
  readonly expires: Date | undefined;
}

/** Runs a credential command, without a shell; `{registry}` in it is the registry's host. Throws `denied`. */
export async function runCredentialCommand(
  command: CredentialCommand,
  registry: string,
  context: SecretContext,
): Promise<PrintedLogin> {
  const asked = Date.now();
  const stdout = await runConfigured(command.command, { registry }, 'the credential command failed', context);
  const isBare = 'user' in command || 'prints' in command;
  const printed = isBare ? bareLogin(stdout, command, asked) : documentLogin(stdout);
  if (printed === undefined) {
    const [why, next] = isBare
      ? [
          `it must print the ${'user' in command ? 'password' : 'token'} alone, on one line`,
          'correct the command, or leave `user:` and `prints:` out in hod.yaml where it prints JSON; see docs/access.md',
        ]
      : [
          'it must print {"username": …, "password": …} or {"token": …}, and may add "expires" (RFC 3339, UTC)',
          'correct the command; where it prints the password or token alone, say so with `user:` or `prints: token` in hod.yaml; see docs/access.md',
        ];
    // What it printed is not repeated: it may be the secret.
    const [what, object] = ['the credential command gave no credential', command.command.join(' ')];
    throw new HodError('credential-malformed', { what, object, why, next });
  }
  keepCredential(printed.credential, registry, context.secrets);
  return printed;
}

function documentLogin(stdout: string): PrintedLogin | undefined {
  const document = documentSchema.safeParse(parseJson(Buffer.from(stdout)) ?? null).data;
  if (document === undefined) {
    return undefined;
  }
  const expires = document.expires === undefined ? undefined : new Date(document.expires);
  return 'token' in document
    ? { credential: { kind: 'token', token: document.token }, expires }
    : { credential: { kind: 'password', username: document.username, password: document.password }, expires };
}

/** What stands alone on the only line. A document of JSON is none: the command is described wrongly then. */
function bareLogin(stdout: string, command: BareCommand, asked: number): PrintedLogin | undefined {
  const secret = stdout.replace(/\r?\n$/, '');
  if (secret === '' || /[\r\n]/.test(secret) || parseJson(Buffer.from(secret)) !== undefined) {
    return undefined;
  }
  const lifetime = command['expires-in'];
  return {
    credential:
      'user' in command
        ? { kind: 'password', username: command.user, password: secret }
        : { kind: 'token', token: secret },
    expires: lifetime === undefined ? undefined : new Date(asked + lifetime),
  };
}

/** Runs a command that hod.yaml names, without a shell. Throws `denied` where it fails, with what it said. */
export async function runConfigured(
  line: readonly string[],
  values: Readonly<Record<string, string>>,
  what: string,
  { folder, secrets }: SecretContext,
): Promise<string> {
  const [file = '', ...args] = line.map((part) => fillPlaceholders(part, values));
  const run = await runProgram(file, args, { folder, timeout: commandTimeout });
  if (run.exitCode !== 0) {
    const said = run.stderr.trim();
    throw new HodError('command-failed', {
      what,
      object: [file, ...args].join(' '),
      why: `it ended with ${run.exitCode ?? run.cause ?? ''}${said === '' ? '' : `: ${secrets.redact(said).slice(-500)}`}`,
      next: 'run it by hand to see what is wrong',
    });
  }
  return run.stdout;
}
