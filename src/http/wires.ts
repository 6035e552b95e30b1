import { isThisMachine } from '../core/access/destinations';
import { hostOf } from '../core/oci/reference';
import { Wire, type Patience, type TlsOptions, type WireObserver, type WireRoute } from './wire';

/** The wires of one run: which one leads to a host depends on who named it. */
export class Wires {
  /** Hosts that hod.yaml or the command line named: their names may lead to this machine. */
  private readonly named = new Set<string>();
  private readonly all: Wire[] = [];
  private readonly local: Wire;
  private readonly remote: Wire;

  constructor(
    private readonly patience: Patience,
    private readonly observer: WireObserver,
    /** The most connections to one host. */
    private readonly connections: number,
  ) {
    this.local = this.open(undefined, { local: true });
    this.remote = this.open(undefined, { local: false, mayBeNear: this.named });
  }

  /** The wire to a host that somebody else may have named: a registry, a token service. */
  to(url: URL): Wire {
    return isThisMachine(url.host) ? this.local : this.remote;
  }

  /** The wire to a host that the user named, with certificates of its own where there are any. */
  own(url: URL, tls: TlsOptions | undefined): Wire {
    this.name(url.host);
    return tls === undefined ? this.to(url) : this.open(tls, { local: isThisMachine(url.host) });
  }

  /** A host that the user named: its name may lead to this machine. */
  name(host: string): void {
    this.named.add(hostOf(host));
  }

  /** Closes every connection. */
  async close(): Promise<void> {
    await Promise.all(this.all.map((each) => each.close()));
  }

  private open(tls: TlsOptions | undefined, route: WireRoute): Wire {
    const made = new Wire(tls, this.patience, this.observer, { ...route, connections: this.connections });
    this.all.push(made);
    return made;
  }
}
