import type { Descriptor } from '../core/oci/descriptor';
import { sha256, type Digest } from '../core/oci/digest';
import { mediaTypes } from '../core/oci/media-types';
import type { Repository, RepositoryName } from '../core/oci/reference';
import { Blobs } from './blobs';
import type { Connections } from './connections';
import { Manifests } from './manifests';
import type { ListedReferrer } from '../core/oci/referrers';
import type { RepositoryTarget } from './ports';
import { Referrers } from './referrers';
import { RepositoryRequests } from './requests';
import { Tags } from './tags';
import type { UnfinishedUploads } from './upload/unfinished';

/** One repository, over the OCI distribution protocol; content can be read from it. */
export class RepositoryClient implements RepositoryTarget {
  readonly blobs: Blobs;
  readonly manifests: Manifests;
  readonly tags: Tags;
  readonly referrers: Referrers;
  private readonly sent: RepositoryRequests;

  constructor(
    readonly repository: Repository,
    connections: Connections,
    sessions: UnfinishedUploads,
  ) {
    this.sent = new RepositoryRequests(repository, connections);
    this.blobs = new Blobs(this.sent, sessions);
    this.manifests = new Manifests(this.sent, (listed) => {
      this.referrers.taken(listed);
    });
    this.tags = new Tags(this.sent);
    this.referrers = new Referrers(this.sent, this.manifests, this.tags);
  }

  get label(): RepositoryName {
    return this.sent.label;
  }

  /** How many requests were sent, redirects and repetitions among them. */
  get requests(): number {
    return this.sent.count;
  }

  readManifest(descriptor: Descriptor): Promise<Uint8Array> {
    return this.manifests.read(descriptor);
  }

  openBlob(descriptor: Descriptor, from?: number): Promise<AsyncIterable<Uint8Array>> {
    return this.blobs.open(descriptor, from);
  }

  referrersOf(digest: Digest): Promise<readonly ListedReferrer[]> {
    return this.referrers.referrersOf(digest);
  }

  /** Asks for something that needs the right to read. Throws where it is not given, or there is no such repository. */
  async probeRead(): Promise<void> {
    await this.sent.fetch({
      method: 'GET',
      path: 'tags/list?n=1',
      access: 'read',
      expect: [200],
      purpose: 'could not read a repository',
      part: '',
    });
  }

  /**
   * Asks for something that needs the right to write and cannot succeed: to store a manifest under a
   * digest that is not its own. Throws where the right is not given, or there is no such repository.
   */
  async probeWrite(): Promise<void> {
    await this.sent.ask({
      method: 'PUT',
      path: `manifests/${sha256('not what is sent')}`,
      headers: { 'content-type': mediaTypes.manifest },
      body: () => Buffer.from('{}'),
      access: 'write',
      expect: [400, 422],
      purpose: 'could not write to a repository',
      part: '',
    });
  }
}
