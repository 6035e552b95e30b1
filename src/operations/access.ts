import { readFile } from 'node:fs/promises';
import { resolve } from 'node:path';
import { keepSecret } from '../core/access/secrets';
import { HodError } from '../core/errors';
import type { CredentialSource } from '../registry/authorization';
import type { RegistryAccess } from '../registry/connection';
import { exchangeJobToken, requestJobToken } from '../registry/job-identity';
import type { TlsOptions, Wire } from '../registry/wire';
import type { Config } from '../workspace/config';
import type { RegistryConfig, SecretPlace } from '../workspace/config-schema';
import { readSecret, runConfigured, runCredentialCommand } from '../workspace/secrets';
import { readStored } from '../workspace/stored';

type CredentialsConfig = NonNullable<RegistryConfig['credentials']>;
type JobConfig = Extract<CredentialsConfig, { job: unknown }>['job'];

/** How a registry is reached, as hod.yaml says; where it says nothing, with a stored login if there is one. */
export async function accessTo(registry: string, config: Config | undefined, wire: Wire): Promise<RegistryAccess> {
  const configured = config?.registries.get(registry);
  const folder = config?.folder ?? process.cwd();
  const line = configured?.create;
  return {
    tls: await tlsOf(configured, folder, registry),
    credentials: sourceOf(configured?.credentials, folder, registry, wire),
    create:
      line &&
      (async (repository) => {
        await runConfigured(line, folder, { registry, repository }, 'the command that makes repositories failed');
      }),
  };
}

async function tlsOf(
  configured: RegistryConfig | undefined,
  folder: string,
  registry: string,
): Promise<false | TlsOptions | undefined> {
  const tls = configured?.tls;
  if (tls === undefined || tls === false) {
    return tls;
  }
  const read = (path: string): Promise<string> =>
    readFile(resolve(folder, path), 'utf8').catch((error: unknown) => {
      throw new HodError('usage', {
        what: 'a certificate or key cannot be read',
        object: resolve(folder, path),
        why: error instanceof Error ? error.message : String(error),
        next: `correct \`tls:\` of ${registry} in hod.yaml`,
      });
    });
  const { ca, certificate, key } = tls;
  return {
    authorities: ca === undefined ? [] : [await read(ca)],
    client:
      certificate === undefined || key === undefined
        ? undefined
        : { certificate: await read(certificate), key: await read(key) },
  };
}

function sourceOf(
  credentials: CredentialsConfig | undefined,
  folder: string,
  registry: string,
  wire: Wire,
): CredentialSource {
  if (credentials === undefined) {
    return async () => {
      const stored = (await readStored()).get(registry);
      return stored && { credential: { kind: 'password', ...stored } };
    };
  }
  if ('command' in credentials) {
    return async () => {
      const document = await runCredentialCommand(credentials.command, folder, registry);
      const expires = document.expires === undefined ? undefined : new Date(document.expires);
      return 'token' in document
        ? { credential: { kind: 'token', token: document.token }, expires }
        : { credential: { kind: 'password', username: document.username, password: document.password }, expires };
    };
  }
  if ('job' in credentials) {
    return () => jobCredential(credentials.job, folder, registry, wire);
  }
  return async () => {
    const { username: from, password: place } = credentials;
    const username = typeof from === 'string' ? from : await readSecret(from, folder, registry);
    const password = keepSecret(await readSecret(place, folder, registry), username);
    return { credential: { kind: 'password', username, password } };
  };
}

async function jobCredential(job: JobConfig, folder: string, registry: string, wire: Wire) {
  const purpose = { registry, service: job.exchange, audience: job.audience };
  return exchangeJobToken(wire, await readJobToken(job, folder, registry, wire), purpose);
}

async function readJobToken(job: JobConfig, folder: string, registry: string, wire: Wire): Promise<string> {
  const { token } = job;
  if (!('request' in token)) {
    return readJobSecret(token, folder, registry);
  }
  const url = await readJobSecret({ env: token.request.url }, folder, registry);
  const bearer = await readJobSecret({ env: token.request.bearer }, folder, registry);
  return requestJobToken(wire, { url, bearer }, { registry, service: job.exchange, audience: job.audience });
}

/** A CI that gives a job nothing to prove itself with has not been told to. */
async function readJobSecret(place: SecretPlace, folder: string, registry: string): Promise<string> {
  try {
    return await readSecret(place, folder, registry);
  } catch (error) {
    if (!(error instanceof HodError)) {
      throw error;
    }
    throw new HodError('denied', {
      reason: 'login-needed',
      what: 'this job may not ask for its identity',
      object: registry,
      ...(error.problem.why === undefined ? {} : { why: error.problem.why }),
      next: 'allow this job to ask for identity tokens, where its pipeline is described',
    });
  }
}
