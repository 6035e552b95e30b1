import { resolve } from 'node:path';
import { isThisMachine } from '../core/access/destinations';
import type { Secrets } from '../core/access/secrets';
import { HodError, messageOf } from '../core/errors';
import type { Memory } from '../core/memory';
import type { RegistryAccess } from '../registry/connection';
import { speaksTls } from '../http/speaks-tls';
import type { TlsOptions } from '../http/wire';
import type { CredentialSource } from '../registry/login/credential';
import type { Config } from '../workspace/config';
import type { RegistryConfig } from '../workspace/config-schema';
import { runConfigured, type SecretContext } from '../workspace/secrets';
import { readSmallFile } from '../system/plain-files';
import { contentChecks, requestLimits, tokenServices, type UserMemory } from '../workspace/user-memory';
import type { Observer } from './observer';

/** What access is worked out with. */
export interface AccessContext {
  readonly secrets: Secrets;
  readonly observer: Pick<Observer, 'note' | 'detail'>;
  /** Where the credential of the registry comes from. */
  readonly credentials: CredentialSource;
}

/** How a registry is reached, as hod.yaml says. */
export async function accessTo(
  registry: string,
  config: Config | undefined,
  { secrets, observer, credentials }: AccessContext,
): Promise<RegistryAccess> {
  const configured = config?.registries.get(registry);
  const context: SecretContext = { folder: config?.folder ?? process.cwd(), secrets };
  const line = configured?.['create-repository'];
  return {
    tls: (await tlsOf(configured, registry, context.folder)) ?? (await tlsFound(registry, observer)),
    credentials,
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
