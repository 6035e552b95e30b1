import { Secrets } from '../core/access/secrets';
import { usualPatience } from '../http/wire';
import type { PostgresPools } from '../ledger/engines/postgres';
import { ConnectionPool } from '../registry/connections';
import type { Config } from '../workspace/config';
import { silent, type Observer } from './observer';
import { Registries, registriesKey } from './registries';
import type { SessionOptions } from './session';

const usualJobs = 4;

/** What one run holds open to the outside world, however many products it works on. */
export class Resources {
  readonly observer: Observer;
  readonly secrets: Secrets;
  private readonly anonymous: boolean;
  private readonly pool: ConnectionPool;
  private readonly registries = new Map<string, Registries>();
  private pools: Promise<PostgresPools> | undefined;

  constructor(options: SessionOptions) {
    const { jobs = usualJobs, observer = silent, patience = usualPatience, secrets = new Secrets() } = options;
    this.observer = observer;
    this.secrets = secrets;
    this.anonymous = options.anonymous === true;
    this.pool = new ConnectionPool({ jobs, secrets, patience, observer });
  }

  /** The registries as a product reaches them; the same for products that reach them the same way. */
  registriesOf(config: Config | undefined): Registries {
    const key = registriesKey(config);
    const known =
      this.registries.get(key) ??
      new Registries(config, { pool: this.pool, observer: this.observer, anonymous: this.anonymous });
    this.registries.set(key, known);
    return known;
  }

  /** Connections to PostgreSQL, which ledgers in the same database share. */
  postgresPools(): Promise<PostgresPools> {
    this.pools ??= import('../ledger/engines/postgres').then((engine) => new engine.PostgresPools());
    return this.pools;
  }

  /** Closes every connection. */
  async close(): Promise<void> {
    await Promise.all([this.pool.close(), (await this.pools)?.close()]);
  }
}
