import type { Secrets } from '../core/access/secrets';
import { Connection, type RegistryAccess, type Shared } from './connection';
import { HashThreads } from './hash-threads';
import { limitsFor } from '../http/limit';
import type { Patience, WireObserver } from '../http/wire';
import { Wires } from '../http/wires';

/** What the connections of one run need. */
export interface ConnectionPoolOptions {
  /** How many blobs move at once. */
  jobs: number;
  secrets: Secrets;
  patience: Patience;
  /** Told of every request. */
  observer: WireObserver;
}

/** The sockets of one run, and how much goes on at once on them, however many products it works on. */
export class ConnectionPool {
  readonly wires: Wires;
  readonly shared: Shared;

  constructor({ jobs, secrets, patience, observer }: ConnectionPoolOptions) {
    this.shared = { limits: limitsFor(jobs), hashing: new HashThreads(jobs), secrets };
    this.wires = new Wires(patience, observer, this.shared.limits.connections);
  }

  /** Closes every connection. */
  async close(): Promise<void> {
    await Promise.all([this.wires.close(), this.shared.hashing.close()]);
  }
}

/** Connections to registries, made as they are needed. */
export class Connections {
  private readonly open = new Map<string, Promise<Connection>>();

  /** @param access How to reach each registry; asked once for each. */
  constructor(
    private readonly access: (registry: string) => Promise<RegistryAccess>,
    private readonly pool: ConnectionPool,
  ) {}

  /** The connection to a registry. */
  to(registry: string): Promise<Connection> {
    const known = this.open.get(registry) ?? this.connect(registry);
    this.open.set(registry, known);
    return known;
  }

  private async connect(registry: string): Promise<Connection> {
    return new Connection(registry, await this.access(registry), this.pool.wires, this.pool.shared);
  }
}
