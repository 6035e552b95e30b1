import { existsSync } from 'node:fs';
import { join, resolve } from 'node:path';
import type { Secrets } from '../core/access/secrets';
import { formatRepository, type Repository } from '../core/oci/reference';
import type { Connection } from '../registry/connection';
import type { Patience } from '../http/wire';
import { RepositoryClient } from '../registry/repository';
import { volatileUploads, type UnfinishedUploads } from '../registry/upload/unfinished';
import { configName, loadConfig, type Config, type LoadOptions } from '../workspace/config';
import { UploadFiles } from '../workspace/uploads';
import type { RegistryLogins } from './logins';
import type { Observer } from './observer';
import type { Registries } from './registries';
import { Resources } from './resources';

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
  /** What several products of one run share; whoever gives it closes it. */
  resources?: Resources | undefined;
}

/** What one run holds open to the outside world for one product. */
export class Session {
  private readonly registries: Registries;
  private readonly uploads: UnfinishedUploads;
  private readonly clients = new Map<string, RepositoryClient>();

  constructor(
    config: Config | undefined,
    readonly resources: Resources,
    /** Told what concerns this product. */
    readonly observer: Observer,
  ) {
    this.registries = resources.registriesOf(config);
    this.uploads = config === undefined ? volatileUploads() : new UploadFiles(join(config.stateFolder, 'uploads'));
  }

  get secrets(): Secrets {
    return this.resources.secrets;
  }

  /** The client of a repository; the same one each time, so that its count of requests is whole. */
  client(repository: Repository): RepositoryClient {
    const key = formatRepository(repository);
    const client = this.clients.get(key) ?? new RepositoryClient(repository, this.registries.connections, this.uploads);
    this.clients.set(key, client);
    return client;
  }

  /** The connection to a registry. */
  connection(registry: string): Promise<Connection> {
    return this.registries.connections.to(registry);
  }

  /** The logins that there are for a registry. */
  loginsOf(registry: string): RegistryLogins {
    return this.registries.loginsOf(registry);
  }

  /** The identity of this job, as a token service accepted it; undefined where it was not asked for. */
  get identity(): string | undefined {
    return this.registries.identity;
  }

  /** Lets the token service of a registry check the identity of this job. Throws where it does not accept it. */
  async proveIdentity(registry: string): Promise<void> {
    await (await this.connection(registry)).prepareLogin();
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

/** Runs work with connections that are closed at the end, unless other products use them too. */
export async function withSession<T>(
  config: Config | undefined,
  options: SessionOptions,
  work: (session: Session) => Promise<T>,
): Promise<T> {
  const { resources = new Resources(options) } = options;
  try {
    return await work(new Session(config, resources, options.observer ?? resources.observer));
  } finally {
    if (resources !== options.resources) {
      await resources.close();
    }
  }
}
