import { resolve } from 'node:path';
import { isThisMachine } from '../core/access/destinations';
import type { Secrets } from '../core/access/secrets';
import { HodError, messageOf } from '../core/errors';
import type { Memory } from '../core/memory';
import { asOneLine } from '../core/text';
import type { RegistryAccess } from '../registry/connection';
import { speaksTls } from '../http/speaks-tls';
import type { TlsOptions } from '../http/wire';
import type { CredentialOrigin, CredentialSource } from '../registry/login/credential';
import { identityMissing, jobLogin, type JobToken } from '../registry/login/job-identity';
import type { Config } from '../workspace/config';
import type { RegistryConfig, SecretPlace } from '../workspace/config-schema';
import { readPlace, readSecret, runConfigured, runCredentialCommand, type SecretContext } from '../workspace/secrets';
import { readSmallFile } from '../system/plain-files';
import { readStored } from '../workspace/stored-logins';
import { contentChecks, requestLimits, tokenServices, type UserMemory } from '../workspace/user-memory';
import type { Observer } from './observer';

type CredentialsConfig = NonNullable<RegistryConfig['credentials']>;
type JobConfig = Extract<CredentialsConfig, { job: unknown }>['job'];

/** What access is worked out with. */
export interface AccessContext {
  readonly secrets: Secrets;
  readonly observer: Pick<Observer, 'note' | 'detail'>;
  /** Told of the identity of this job, once a token service has accepted it. */
  readonly accepted: (subject: string) => void;
}

/** How a registry is reached, as hod.yaml says; where it says nothing, with a stored login if there is one. */
export async function accessTo(
  registry: string,
  config: Config | undefined,
  { secrets, observer, accepted }: AccessContext,
): Promise<RegistryAccess> {
  const configured = config?.registries.get(registry);
  const context: SecretContext = { folder: config?.folder ?? process.cwd(), secrets };
  const line = configured?.['create-repository'];
  return {
    tls: (await tlsOf(configured, registry, context.folder)) ?? (await tlsFound(registry, observer)),
    credentials: credentialsOf(configured?.credentials, registry, context, accepted),
    tokenService: {
      configured: configured?.['token-service'],
      memory: tokenServices.of(registry),
      notice: (text) => observer.note(text),
    },
    intake: {
      checks: lasting(registry, contentChecks),
      largestBody: lasting(registry, requestLimits),
      tell: (text) => observer.detail(text),
    },
    createRepository:
      line &&
      (async (repository) => {
        await runConfigured(line, { registry, repository }, 'the command that makes repositories failed', context);
      }),
  };
}

/** What is remembered of a registry. On this machine another one may have its address tomorrow. */
function lasting<T>(registry: string, memory: UserMemory<T>): Memory<T> {
  return isThisMachine(registry)
    ? { recall: () => Promise.resolve(undefined), remember: () => Promise.resolve() }
    : memory.of(registry);
}

async function tlsOf(
  configured: RegistryConfig | undefined,
  registry: string,
  folder: string,
): Promise<false | TlsOptions | undefined> {
  const tls = configured?.tls;
  if (tls === undefined || tls === false) {
    return tls;
  }
  const read = async (path: string): Promise<string> =>
    (
      await readSmallFile(resolve(folder, path)).catch((error: unknown) => {
        throw new HodError('file-unusable', {
          what: 'a certificate or key cannot be read',
          object: resolve(folder, path),
          why: messageOf(error),
          next: `correct \`tls:\` of ${registry} in hod.yaml`,
        });
      })
    ).toString('utf8');
  const { ca, 'client-certificate': certificate, 'client-key': key } = tls;
  return {
    authorities: ca === undefined ? [] : [await read(ca)],
    client:
      certificate === undefined || key === undefined
        ? undefined
        : { certificate: await read(certificate), key: await read(key) },
  };
}

/** Asks a registry on this machine which protocol it speaks, where hod.yaml does not say; undefined for plain HTTP. */
async function tlsFound(registry: string, observer: Pick<Observer, 'note'>): Promise<TlsOptions | undefined> {
  if (!isThisMachine(registry) || !(await speaksTls(registry))) {
    return undefined;
  }
  observer.note(
    `${registry} speaks TLS: Hod uses HTTPS (\`tls: {}\` under its name in \`registries:\` says so, and nobody asks)`,
  );
  return { authorities: [] };
}

/** Where the credential of a registry comes from. Nothing is read before the registry asks for it. */
function credentialsOf(
  credentials: CredentialsConfig | undefined,
  registry: string,
  context: SecretContext,
  accepted: AccessContext['accepted'],
): CredentialSource {
  if (credentials === undefined) {
    return async () => {
      const stored = (await readStored(context.secrets)).get(registry);
      return stored && { credential: passwordOf(stored), expires: undefined, origin: storedOrigin(registry, stored) };
    };
  }
  if ('command' in credentials) {
    return async () => {
      const { expires, ...document } = await runCredentialCommand(credentials.command, registry, context);
      const credential = 'token' in document ? ({ kind: 'token', ...document } as const) : passwordOf(document);
      const origin = {
        name: 'the login that the command gave',
        next: `check what ${credentials.command[0] ?? ''} prints; \`hod access check\` tries it`,
      };
      return { credential, expires: expires === undefined ? undefined : new Date(expires), origin };
    };
  }
  if ('job' in credentials) {
    const { exchange, audience } = credentials.job;
    const purpose = { registry, service: exchange, audience };
    return jobLogin(jobToken(credentials.job, registry, context), purpose, { secrets: context.secrets, accepted });
  }
  return async () => {
    const { username: name, password: place } = credentials;
    const username = typeof name === 'string' ? name : await readPlace(name, registry, context);
    const password = context.secrets.keep(await readSecret(place, registry, context), registry, username);
    const origin = {
      name: `the login of ${username}`,
      next: 'check the user name and password that hod.yaml names; `hod access check` tries them',
    };
    return { credential: passwordOf({ username, password }), expires: undefined, origin };
  };
}

function storedOrigin(registry: string, { username }: { username: string }): CredentialOrigin {
  return {
    name: `the stored login of ${username}`,
    next: `store it anew: hod access store ${registry} --user ${username} < FILE`,
  };
}

function passwordOf(login: { username: string; password: string }) {
  return { kind: 'password', ...login } as const;
}

function jobToken({ token }: JobConfig, registry: string, context: SecretContext): JobToken {
  const read = (place: SecretPlace): Promise<string> =>
    readSecret(place, registry, context).catch((error: unknown) => {
      // A CI that gives a job nothing to prove itself with has not been told to.
      throw error instanceof HodError ? identityMissing(registry, asOneLine(error.problem.why ?? '')) : error;
    });
  if (!('request' in token)) {
    return { kind: 'given', read: () => read(token) };
  }
  const { url, bearer } = token.request;
  return { kind: 'asked', read: async () => ({ url: await read({ env: url }), bearer: await read({ env: bearer }) }) };
}
