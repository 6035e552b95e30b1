import { Connections, type ConnectionPool } from '../registry/connections';
import type { Config } from '../workspace/config';
import { RegistryLogins } from './logins';
import type { Observer } from './observer';
import { accessTo } from './registry-access';

/** What registries are reached with. */
interface RegistriesContext {
  readonly pool: ConnectionPool;
  readonly observer: Observer;
  /** Show no login to any registry. */
  readonly anonymous: boolean;
}

/** The registries as the `registries:` of a hod.yaml says that they are reached, each with one connection and one login. */
export class Registries {
  readonly connections: Connections;
  private readonly logins = new Map<string, RegistryLogins>();
  private subject: string | undefined;

  constructor(
    private readonly config: Config | undefined,
    private readonly context: RegistriesContext,
  ) {
    const { pool, observer, anonymous } = context;
    const nobody = (): Promise<undefined> => Promise.resolve(undefined);
    this.connections = new Connections(
      (registry) =>
        accessTo(registry, config, {
          secrets: pool.shared.secrets,
          observer,
          credentials: anonymous ? nobody : this.loginsOf(registry).obtain,
        }),
      pool,
    );
  }

  /** The logins that there are for a registry. */
  loginsOf(registry: string): RegistryLogins {
    const known =
      this.logins.get(registry) ??
      new RegistryLogins(registry, this.config, {
        secrets: this.context.pool.shared.secrets,
        accepted: (subject) => (this.subject = subject),
      });
    this.logins.set(registry, known);
    return known;
  }

  /** Whose identity a registry's token service accepted in this run; undefined where none was shown. */
  get identity(): string | undefined {
    return this.subject;
  }
}

/**
 * Returns a text that is the same for two configurations that reach registries the same way. Paths and commands are relative
 * to the folder of hod.yaml, so that products that use them share nothing.
 */
export function registriesKey(config: Config | undefined): string {
  if (config === undefined) {
    return '';
  }
  const text = JSON.stringify([[...config.registries], config.sharedLogins]);
  return /"(file|command|ca|client-certificate|client-key|create-repository)":/.test(text)
    ? `${config.folder}\n${text}`
    : text;
}
