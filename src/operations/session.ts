import { existsSync } from 'node:fs';
import { resolve } from 'node:path';
import { userInfo } from 'node:os';
import pLimit from 'p-limit';
import { HodError } from '../core/errors';
import type { Repository } from '../core/oci/reference';
import { openSqliteLedger } from '../ledger/sqlite';
import type { Ledger } from '../ledger/ledger';
import { Connections, type RegistryAccess } from '../registry/connection';
import { RepositoryClient } from '../registry/repository';
import type { Limit } from '../registry/transfer';
import { configName, loadConfig, type Config, type RegistryConfig } from '../workspace/config';

/** What every command is told by its options. */
export interface SessionOptions {
  /** Path of the configuration; hod.yaml in the current folder where it is not given. */
  config?: string | undefined;
  /** How many transfers run at once. */
  jobs: number;
}

/** What one run holds open to the outside world. */
export class Session {
  readonly limit: Limit;
  private readonly connections: Connections;
  private readonly clients = new Map<string, RepositoryClient>();

  constructor(config: Config | undefined, jobs: number) {
    this.limit = pLimit(jobs);
    this.connections = new Connections((registry) => accessTo(registry, config?.registries.get(registry)));
  }

  /** The client of a repository; the same one each time, so that its count of requests is whole. */
  client(repository: Repository): RepositoryClient {
    const key = `${repository.registry}/${repository.name}`;
    const client = this.clients.get(key) ?? new RepositoryClient(repository, this.connections);
    this.clients.set(key, client);
    return client;
  }

  /** Closes every connection. */
  close(): Promise<void> {
    return this.connections.close();
  }
}

/** Runs work on a product: with its configuration, and with connections that are closed at the end. */
export async function withProduct<T>(
  options: SessionOptions,
  work: (config: Config, session: Session) => Promise<T>,
): Promise<T> {
  const config = await loadConfig(options.config ?? configName);
  return withSession(config, options, (session) => work(config, session));
}

/** Runs work that needs no product; a configuration that is there still says how registries are reached. */
export async function withoutProduct<T>(options: SessionOptions, work: (session: Session) => Promise<T>): Promise<T> {
  const file = options.config ?? (existsSync(resolve(configName)) ? configName : undefined);
  return withSession(file === undefined ? undefined : await loadConfig(file), options, work);
}

async function withSession<T>(
  config: Config | undefined,
  options: SessionOptions,
  work: (session: Session) => Promise<T>,
): Promise<T> {
  const session = new Session(config, options.jobs);
  try {
    return await work(session);
  } finally {
    await session.close();
  }
}

/** Runs work on the ledger of a product, and closes it at the end. */
export async function withLedger<T>(
  config: Config,
  access: 'read' | 'write',
  work: (ledger: Ledger) => Promise<T>,
): Promise<T> {
  const ledger = openSqliteLedger({ file: config.ledgerFile, product: config.product, access });
  try {
    return await work(ledger);
  } finally {
    await ledger.close();
  }
}

/** Who runs this, for the ledger. */
export function actor(): string {
  return process.env['USER'] || userInfo().username;
}

function accessTo(registry: string, configured: RegistryConfig | undefined): RegistryAccess {
  const credentials = configured?.credentials;
  if (credentials === undefined) {
    return { tls: configured?.tls };
  }
  const value = (variable: string): string => {
    const found = process.env[variable];
    if (found === undefined || found === '') {
      throw new HodError('denied', {
        what: 'a credential is not set',
        object: registry,
        why: `hod.yaml takes it from the environment variable ${variable}, which is empty`,
        next: `set ${variable}`,
      });
    }
    return found;
  };
  return {
    tls: configured?.tls,
    credentials: { username: value(credentials.username.env), password: value(credentials.password.env) },
  };
}
