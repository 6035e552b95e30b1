import { existsSync } from 'node:fs';
import { join, resolve } from 'node:path';
import { Secrets } from '../core/access/secrets';
import { formatRepository, type Repository } from '../core/oci/reference';
import type { Connection } from '../registry/connection';
import { Connections } from '../registry/connections';
import { usualPatience, type Patience } from '../http/wire';
import { RepositoryClient } from '../registry/repository';
import { volatileUploads, type UnfinishedUploads } from '../registry/upload/unfinished';
import { configName, loadConfig, type Config, type LoadOptions } from '../workspace/config';
import { UploadFiles } from '../workspace/uploads';
import { RegistryLogins } from './logins';
import { silent, type Observer } from './observer';
import { accessTo } from './registry-access';

/** The options that every command has, and what the code that runs it adds. */
export interface SessionOptions extends LoadOptions {
  /** Path of the configuration; hod.yaml in the current folder where it is not given. */
  config?: string | undefined;
  /** How many blobs move at once. */
  jobs?: number | undefined;
  /** Is told of requests and transfers, for progress and logs. */
  observer?: Observer | undefined;
  /** Remembers the secrets that the run reads. */
  secrets?: Secrets | undefined;
  /** How long to wait for answers, where that is not as usual. */
  patience?: Patience | undefined;
  /** Show no login to any registry: what is answered then, anyone is told. */
  anonymous?: boolean | undefined;
}

const usualJobs = 4;

/** What one run holds open to the outside world. */
export class Session {
  readonly observer: Observer;
  readonly secrets: Secrets;
  private readonly connections: Connections;
  private readonly uploads: UnfinishedUploads;
  private readonly clients = new Map<string, RepositoryClient>();
  private readonly logins = new Map<string, RegistryLogins>();
  /** Whose identity a registry's token service accepted in this run; undefined where none was shown. */
  private subject: string | undefined;

  constructor(
    private readonly config: Config | undefined,
    options: SessionOptions,
  ) {
    const { jobs = usualJobs, observer = silent, patience = usualPatience, secrets = new Secrets() } = options;
    const nobody = (): Promise<undefined> => Promise.resolve(undefined);
    this.observer = observer;
    this.secrets = secrets;
    this.uploads = config === undefined ? volatileUploads() : new UploadFiles(join(config.stateFolder, 'uploads'));
    this.connections = new Connections({
      access: (registry) =>
        accessTo(registry, config, {
          secrets,
          observer,
          credentials: options.anonymous === true ? nobody : this.loginsOf(registry).obtain,
        }),
      jobs,
      secrets,
      patience,
      observer,
    });
  }

  /** The client of a repository; the same one each time, so that its count of requests is whole. */
  client(repository: Repository): RepositoryClient {
    const key = formatRepository(repository);
    const client = this.clients.get(key) ?? new RepositoryClient(repository, this.connections, this.uploads);
    this.clients.set(key, client);
    return client;
  }

  /** The connection to a registry. */
  connection(registry: string): Promise<Connection> {
    return this.connections.to(registry);
  }

  /** The logins that there are for a registry. */
  loginsOf(registry: string): RegistryLogins {
    const known =
      this.logins.get(registry) ??
      new RegistryLogins(registry, this.config, {
        secrets: this.secrets,
        accepted: (subject) => (this.subject = subject),
      });
    this.logins.set(registry, known);
    return known;
  }

  /** The identity of this job, as a token service accepted it; undefined where it was not asked for. */
  get identity(): string | undefined {
    return this.subject;
  }

  /** Lets the token service of a registry check the identity of this job. Throws where it does not accept it. */
  async proveIdentity(registry: string): Promise<void> {
    await (await this.connections.to(registry)).prepareLogin();
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
  const config = await loadConfig(options.config ?? configName, options);
  return withSession(config, options, (session) => work(config, session));
}

/** Runs work that reads the configuration of a product, where there is one. */
export async function withProductIfAny<T>(
  options: SessionOptions,
  work: (config: Config | undefined, session: Session) => Promise<T>,
): Promise<T> {
  const config = await configIfAny(options);
  return withSession(config, options, (session) => work(config, session));
}

/** Runs work that needs no product; a configuration that is there still says how registries are reached. */
export async function withoutProduct<T>(options: SessionOptions, work: (session: Session) => Promise<T>): Promise<T> {
  return withProductIfAny(options, (_, session) => work(session));
}

/** The configuration that is named, or that is here. */
export async function configIfAny({ config }: Pick<SessionOptions, 'config'>): Promise<Config | undefined> {
  const file = config ?? (existsSync(resolve(configName)) ? configName : undefined);
  return file === undefined ? undefined : loadConfig(file);
}

/** Runs work with connections that are closed at the end. */
export async function withSession<T>(
  config: Config | undefined,
  options: SessionOptions,
  work: (session: Session) => Promise<T>,
): Promise<T> {
  const session = new Session(config, options);
  try {
    return await work(session);
  } finally {
    await session.close();
  }
}
