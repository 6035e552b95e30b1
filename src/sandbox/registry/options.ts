import type { TokenService } from '../identity/token-service';
import type { FaultSource } from './faults';

/** How a sandbox registry behaves. */
export interface SandboxRegistryOptions {
  /** Keep content here; in memory where it is not given. */
  folder?: string | undefined;
  /** The port on loopback; any free one where it is 0. */
  port: number;
  /** Ask for this login (RFC 7617). */
  login?: { username: string; password: string } | undefined;
  /** Ask for access tokens of this service. */
  tokens?: Pick<TokenService, 'realm' | 'service' | 'verify'> | undefined;
  /** What goes wrong, and when. */
  faults?: FaultSource | undefined;
  /** Repositories must be made (`PUT /sandbox/repositories/NAME`) before the first push. */
  strict?: boolean | undefined;
  /** Tags that may be written once only. */
  immutable?: RegExp | undefined;
  /** Take manifests whose content is not there, and blobs that are not what their digest says, as some registries do. */
  trusting?: boolean | undefined;
  /** Keep no list of what refers to a manifest, as registries of the protocol before 1.1. */
  withoutReferrers?: boolean | undefined;
  /** What it removes when it is asked to: tags and manifests where nothing is said; `pretended`: it says so and removes nothing. */
  removes?: 'tags' | 'manifests' | 'none' | 'pretended' | undefined;
  /** Told of every request when it has been answered. */
  onRequest?: ((request: LoggedRequest) => void) | undefined;
}

/** A line of the request log. */
export interface LoggedRequest {
  at: string;
  method: string;
  path: string;
  status: number;
  /** Bytes of the body that came in. */
  received: number;
  /** The names of the request's headers: enough to see whether a credential came along, and which is not kept. */
  headers: string[];
}
