import type { Scope } from '../core/access/challenge';
import { manifestSizeLimit } from '../core/oci/manifest';
import { formatRepository, type Repository, type RepositoryName } from '../core/oci/reference';
import type { Connection } from './connection';
import type { Connections } from './connections';
import type { FetchedResponse, RegistryRequest, RegistryResponse } from '../http/exchange';

/** The header in which registries name the digest of what they serve or stored. */
export const digestHeader = 'docker-content-digest';

/** How registries say that they remove no tags or manifests, or not for us. */
const removalRefusals: readonly number[] = [400, 403, 405, 501];

/**
 * Removes what stands under a tag or a digest (OCI distribution specification, "Content Management"). Answers false where the
 * registry removes none, or not for us.
 *
 * @param part What is removed, as it stands behind the name of the repository.
 */
export async function removeReference(
  requests: Pick<RepositoryRequests, 'ask'>,
  { part, purpose }: Pick<RepositoryRequest, 'part' | 'purpose'>,
): Promise<boolean> {
  const response = await requests.ask({
    method: 'DELETE',
    path: `manifests/${part.slice(1)}`,
    access: 'delete',
    expect: [200, 202, 204, 404, ...removalRefusals],
    purpose,
    part,
  });
  return !removalRefusals.includes(response.statusCode);
}

/** A request to a repository: what {@link RegistryRequest} says, with the path after its name. */
export interface RepositoryRequest extends Omit<RegistryRequest, 'scopes' | 'target' | 'object'> {
  /** What follows `/v2/NAME/`, or the address that the registry answered with. */
  path: string;
  /** What the request is about, after the repository's name: `:tag`, `@digest`, or nothing. */
  part: string;
  /** The right that it needs. */
  access: Scope['access'];
  /** Rights in other repositories. */
  scopes?: readonly Scope[];
}

/** Sends requests to one repository, and counts them. */
export class RepositoryRequests {
  /** How many requests were sent, redirects and repetitions among them. */
  count = 0;
  readonly label: RepositoryName;

  constructor(
    readonly repository: Repository,
    private readonly connections: Connections,
  ) {
    this.label = formatRepository(repository);
  }

  /** Sends a small request whose answer has no body that matters. */
  async ask(request: RepositoryRequest): Promise<RegistryResponse> {
    return (await this.connection()).ask(this.complete(request), this.counting);
  }

  /** Sends a small request and reads the whole answer. */
  async fetch(request: RepositoryRequest): Promise<FetchedResponse> {
    return (await this.connection()).fetch(this.complete(request), manifestSizeLimit, this.counting);
  }

  /** The body of an answer from a byte on, as it arrives. For whoever has a turn already. */
  async stream(request: RepositoryRequest, from: number): Promise<AsyncIterable<Uint8Array>> {
    return (await this.connection()).stream(this.complete(request), from, this.counting);
  }

  /** Sends a small request, once, when its turn comes. */
  async sendSmall(request: RepositoryRequest): Promise<RegistryResponse> {
    return (await this.connection()).sendSmall(this.complete(request), this.counting);
  }

  /** Sends one request, once. For whoever has a turn already. */
  async sendOnce(request: RepositoryRequest): Promise<RegistryResponse> {
    return (await this.connection()).sendOnce(this.complete(request), this.counting);
  }

  connection(): Promise<Connection> {
    return this.connections.to(this.repository.registry);
  }

  private complete({ path, part, access, scopes = [], ...rest }: RepositoryRequest): RegistryRequest {
    const { name } = this.repository;
    const target = /^(?:\/|https?:)/.test(path) ? path : `/v2/${name}/${path}`;
    return { ...rest, target, object: `${this.label}${part}`, scopes: [{ repository: name, access }, ...scopes] };
  }

  private readonly counting = (): void => {
    this.count += 1;
  };
}
