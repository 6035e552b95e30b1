import { resolve } from 'node:path';
import * as z from 'zod';
import type { Secrets } from '../core/access/secrets';
import { HodError } from '../core/errors';
import { parseJson } from '../core/json';
import { readSmallFile } from '../system/plain-files';
import type { SecretPlace } from './config-schema';
import { runProgram } from '../system/programs';

const commandTimeout = 60_000;

/** What a credential command prints: a password with its user name, or a token; and until when it is good. */
const documentSchema = z.union([
  z.strictObject({ username: z.string().min(1), password: z.string().min(1), expires: z.iso.datetime().optional() }),
  z.strictObject({ token: z.string().min(1), expires: z.iso.datetime().optional() }),
]);

/** What a credential command printed. */
export type CredentialDocument = z.infer<typeof documentSchema>;

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

/** Runs a credential command, without a shell; `{registry}` in it is the registry's host. Throws `denied`. */
export async function runCredentialCommand(
  line: readonly string[],
  registry: string,
  context: SecretContext,
): Promise<CredentialDocument> {
  const stdout = await runConfigured(line, { registry }, 'the credential command failed', context);
  const parsed = documentSchema.safeParse(parseJson(Buffer.from(stdout)) ?? null);
  if (!parsed.success) {
    throw new HodError('credential-malformed', {
      what: 'the credential command gave no credential',
      object: line.join(' '),
      // What it printed is not repeated: it may be the secret.
      why: 'it must print {"username": …, "password": …} or {"token": …}, and may add "expires" (RFC 3339, UTC)',
      next: 'correct the command, or `credentials:` in hod.yaml; see docs/access.md',
    });
  }
  const document = parsed.data;
  if ('password' in document) {
    context.secrets.keep(document.password, registry, document.username);
  } else {
    context.secrets.keep(document.token, registry, 'token');
  }
  return document;
}

/** Runs a command that hod.yaml names, without a shell. Throws `denied` where it fails, with what it said. */
export async function runConfigured(
  line: readonly string[],
  values: Readonly<Record<string, string>>,
  what: string,
  { folder, secrets }: SecretContext,
): Promise<string> {
  const [file = '', ...args] = line.map((part) =>
    part.replace(/\{(\w+)\}/g, (all, name: string) => (Object.hasOwn(values, name) ? (values[name] ?? all) : all)),
  );
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
