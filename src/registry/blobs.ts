import { onePiece } from '../core/bytes';
import { HodError } from '../core/errors';
import { verified, type ContentSource } from '../core/oci/content';
import type { Descriptor } from '../core/oci/descriptor';
import type { Digest } from '../core/oci/digest';
import type { Repository } from '../core/oci/reference';
import { locationOf } from '../http/exchange';
import { isPage } from '../http/status-problems';
import type { Connection } from './connection';
import { digestHeader, type RepositoryRequests } from './requests';
import { UploadSession } from './upload/session';
import { smallSize, isSmall } from './upload/small';
import { uploadBlob } from './upload/upload';
import type { UnfinishedUploads } from './upload/unfinished';

/** What became of a mount. A registry that will not mount has begun an upload, whose location is answered. */
export type Mount = { mounted: true; upload?: undefined } | { mounted: false; upload: string | undefined };

/** How one blob is uploaded. */
export interface BlobUpload {
  /** Told when the upload begins: it may have to wait for its turn. */
  begin: () => void;
  /** Told of bytes as they are sent. */
  sent: (bytes: number) => void;
  /** Where the registry has begun the upload already. */
  begun: string | undefined;
}

/** The blobs of one repository (OCI distribution specification). */
export class Blobs {
  /** Those that are known to be there: this run asked for them, read, sent or mounted them. */
  private readonly known = new Set<Digest>();

  constructor(
    private readonly requests: RepositoryRequests,
    private readonly unfinished: UnfinishedUploads,
  ) {}

  /** Whether a blob is there ("Checking if content exists in the registry"). */
  async has({ digest, size }: Descriptor): Promise<boolean> {
    if (this.known.has(digest)) {
      return true;
    }
    const request = {
      method: 'HEAD',
      path: `blobs/${digest}`,
      expect: [200, 404],
      access: 'read',
      purpose: 'could not look for a blob',
      part: `@${digest}`,
    } as const;
    const { statusCode, headers } = await this.requests.ask(request);
    // A login page answers 200 to everything; a blob says who it is, or how long.
    if (
      statusCode === 200 &&
      isPage({ headers }) &&
      headers[digestHeader] !== digest &&
      headers['content-length'] !== String(size)
    ) {
      await this.requests.fetch({ ...request, method: 'GET' });
    }
    return statusCode === 200 && this.know(digest);
  }

  /** The bytes of a blob from a byte on, unchecked ("Pulling blobs"). Small ones are read whole, and again where that breaks off. */
  async open({ digest, size }: Descriptor, from = 0): Promise<AsyncIterable<Uint8Array>> {
    const request = {
      method: 'GET',
      path: `blobs/${digest}`,
      expect: [200],
      access: 'read',
      purpose: 'could not read a blob',
      part: `@${digest}`,
    } as const;
    if (size > smallSize) {
      return this.requests.stream({ ...request, bulk: size }, from);
    }
    const { body } = await this.requests.fetch(request);
    this.know(digest);
    return onePiece(body.subarray(from));
  }

  /** Asks the registry to take a blob over from another of its repositories ("Mounting a blob from another repository"). */
  async mount(digest: Digest, from: Repository): Promise<Mount> {
    const query = new URLSearchParams({ mount: digest, from: from.name });
    const answer = this.requests.ask({
      method: 'POST',
      path: `blobs/uploads/?${query.toString()}`,
      headers: { 'content-length': '0' },
      expect: [201, 202, 404],
      access: 'write',
      scopes: [{ repository: from.name, access: 'read' }],
      purpose: 'could not mount a blob',
      part: `@${digest}`,
    });
    const response = await answer.catch((error: unknown) => {
      if (error instanceof HodError && error.code === 'no-right') {
        // Without the right to read there, the blob is uploaded; without the right to write here, that says so.
        return undefined;
      }
      throw error;
    });
    if (response?.statusCode === 201) {
      this.know(digest);
      return { mounted: true };
    }
    const about = { purpose: 'could not mount a blob', object: `${this.requests.label}@${digest}` };
    const upload = response?.statusCode === 202 ? locationOf(response, about)?.href : undefined;
    return { mounted: false, upload };
  }

  /** Reads and checks what an upload would send, when its turn comes. Throws `corrupt`. */
  async check(descriptor: Descriptor, source: ContentSource): Promise<void> {
    await this.moving(descriptor, await this.requests.connection(), async () => {
      const pieces = verified(await source.openBlob(descriptor), descriptor, source.label);
      while ((await pieces.next()).done !== true);
    });
  }

  /** Uploads a blob when its turn comes; see {@link uploadBlob}. */
  async upload(descriptor: Descriptor, source: ContentSource, options: BlobUpload): Promise<void> {
    const connection = await this.requests.connection();
    await this.moving(descriptor, connection, () => {
      const { begin, begun, sent } = options;
      begin();
      return uploadBlob(new UploadSession(descriptor, this.requests, connection, this.unfinished), {
        source,
        begun,
        sent,
        isThere: () => this.has(descriptor),
        retries: connection.retries,
        hasher: (like) => connection.hashing.hasher(like),
      });
    });
    this.know(descriptor.digest);
  }

  private moving<T>(descriptor: Descriptor, connection: Connection, work: () => Promise<T>): Promise<T> {
    return isSmall(descriptor) ? connection.holdingBlob(work) : connection.movingBulk(work);
  }

  private know(digest: Digest): true {
    this.known.add(digest);
    return true;
  }
}
