import { execFile } from 'node:child_process';
import { readFile } from 'node:fs/promises';
import { resolve } from 'node:path';
import { promisify } from 'node:util';
import * as z from 'zod';
import { keepSecret, redact } from '../core/access/secrets';
import { HodError } from '../core/errors';
import { parseJson } from '../core/oci/manifest';
import type { SecretPlace } from './config-schema';

const run = promisify(execFile);
const commandTimeout = 60_000;

/** What a credential command prints: a password with its user name, or a token; and until when it is good. */
const documentSchema = z.union([
  z.strictObject({ username: z.string().min(1), password: z.string().min(1), expires: z.iso.datetime().optional() }),
  z.strictObject({ token: z.string().min(1), expires: z.iso.datetime().optional() }),
]);

/** What a credential command printed. */
export type CredentialDocument = z.infer<typeof documentSchema>;

/** Reads a secret from where hod.yaml says it is. Throws `denied` where there is none. */
export async function readSecret(place: SecretPlace, folder: string, registry: string): Promise<string> {
  const [where, value] =
    'env' in place
      ? [`the environment variable ${place.env}`, process.env[place.env]]
      : [`the file ${place.file}`, await readFile(resolve(folder, place.file), 'utf8').catch(() => undefined)];
  const secret = value?.replace(/\r?\n$/, '');
  if (secret === undefined || secret === '') {
    throw new HodError('denied', {
      reason: 'login-needed',
      what: 'a credential is missing',
      object: registry,
      why: `hod.yaml takes it from ${where}, which is ${value === undefined ? 'not there' : 'empty'}`,
      next: `${'env' in place ? 'set' : 'write it into'} ${where}`,
    });
  }
  return keepSecret(secret);
}

/** Runs a credential command, without a shell; `{registry}` in it is the registry's host. Throws `denied`. */
export async function runCredentialCommand(
  line: readonly string[],
  folder: string,
  registry: string,
): Promise<CredentialDocument> {
  const stdout = await runConfigured(line, folder, { registry }, 'the credential command failed');
  const parsed = documentSchema.safeParse(parseJson(Buffer.from(stdout)) ?? null);
  if (!parsed.success) {
    throw new HodError('denied', {
      what: 'the credential command gave no credential',
      object: line.join(' '),
      // What it printed is not repeated: it may be the secret.
      why: 'it must print {"username": …, "password": …} or {"token": …}, and may add "expires" (RFC 3339, UTC)',
      next: 'correct the command, or `credentials:` in hod.yaml; see docs/access.md',
    });
  }
  const document = parsed.data;
  if ('password' in document) {
    keepSecret(document.password, document.username);
  } else {
    keepSecret(document.token);
  }
  return document;
}

/** Runs a command that hod.yaml names, without a shell. Throws `denied` where it fails, with what it said. */
export async function runConfigured(
  line: readonly string[],
  folder: string,
  values: Readonly<Record<string, string>>,
  what: string,
): Promise<string> {
  const [file = '', ...args] = line.map((part) =>
    part.replace(/\{(\w+)\}/g, (all, name: string) => values[name] ?? all),
  );
  try {
    const { stdout } = await run(file, args, { cwd: folder, timeout: commandTimeout });
    return stdout;
  } catch (error) {
    const said = error instanceof Error && 'stderr' in error ? String(error.stderr).trim() : '';
    const code = error instanceof Error && 'code' in error ? String(error.code) : 'a signal';
    throw new HodError(
      'denied',
      {
        what,
        object: [file, ...args].join(' '),
        why: `it ended with ${code}${said === '' ? '' : `: ${redact(said).slice(-500)}`}`,
        next: 'run it by hand to see what is wrong',
      },
      { cause: error },
    );
  }
}
