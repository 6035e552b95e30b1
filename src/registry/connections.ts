import type { Secrets } from '../core/access/secrets';
import { Connection, type RegistryAccess, type Shared } from './connection';
import { HashThreads } from './hash-threads';
import { limitsFor } from '../http/limit';
import type { Patience, WireObserver } from '../http/wire';
import { Wires } from '../http/wires';

/** What the connections of one run need. */
export interface ConnectionsOptions {
  /** How to reach each registry; asked once for each. */
  access: (registry: string) => Promise<RegistryAccess>;
  /** How many blobs move at once. */
  jobs: number;
  secrets: Secrets;
  patience: Patience;
  /** Told of every request. */
  observer: WireObserver;
}

/** Connections to the registries of one run, made as they are needed. */
export class Connections {
  private readonly open = new Map<string, Promise<Connection>>();
  private readonly wires: Wires;
  private readonly shared: Shared;

  constructor(private readonly options: ConnectionsOptions) {
    const { jobs, secrets } = options;
    this.shared = { limits: limitsFor(jobs), hashing: new HashThreads(jobs), secrets };
    this.wires = new Wires(options.patience, options.observer, this.shared.limits.connections);
  }

  /** The connection to a registry. */
  to(registry: string): Promise<Connection> {
    const known = this.open.get(registry) ?? this.connect(registry);
    this.open.set(registry, known);
    return known;
  }

  /** Closes every connection. */
  async close(): Promise<void> {
    await Promise.all([this.wires.close(), this.shared.hashing.close()]);
  }

  private async connect(registry: string): Promise<Connection> {
    return new Connection(registry, await this.options.access(registry), this.wires, this.shared);
  }
}
