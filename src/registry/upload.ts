import { Readable } from 'node:stream';
import type { Secrets } from '../core/access/secrets';
import { HodError } from '../core/errors';
import { verified, type ContentSource } from '../core/oci/content';
import type { Descriptor } from '../core/oci/descriptor';
import { locationOf, lookIntoLog, type About, type RegistryRequest, type RegistryResponse } from './http/exchange';
import { TransientError, withRetries, type Retries } from './http/retry';
import { registrySays, withSaid } from './http/status-problems';
import { onlyOnce, Pieces } from './pieces';
import type { RepositoryRequest } from './requests';
import type { UploadSessions } from './upload-sessions';

/** What an upload needs of the repository that it goes to. */
export interface UploadTarget {
  /** `registry/name`. */
  readonly label: string;
  send(request: Omit<RepositoryRequest, 'access' | 'part' | 'scopes'>): Promise<RegistryResponse>;
  hasBlob(): Promise<boolean>;
  /** Makes the repository where it does not exist; false where nobody knows how. */
  createRepository(): Promise<boolean>;
}

/** How an upload is done. */
export interface UploadOptions {
  sessions: UploadSessions;
  /** Told of bytes as they are sent. */
  sent: (bytes: number) => void;
  retries: Retries;
  /** What is taken out of what the registry says. */
  secrets: Secrets;
}

/** Smaller blobs go up in one request, and are begun again where it breaks. */
const resumableSize = 4 * 1024 * 1024;
/** What a registry that keeps only whole chunks can lose when a connection breaks. */
const chunkSize = 256 * 1024 * 1024;

/** A try that got further by so many bytes is not counted. */
const leastAdvance = 64 * 1024;

/** How registries say that they do not know an upload any more, or are at another byte of it. */
const sessionLost: readonly number[] = [400, 404, 416];
/** The registry is at another byte of an upload that it still knows ("Pushing a blob in chunks"). */
const otherByte = 416;

interface Session {
  location: string;
  /** How many bytes the registry holds. */
  offset: number;
}

/**
 * Uploads one blob, hashed while it is sent. A large one goes up in chunks, and goes on from where
 * the registry says that it broke off, also in a later run (OCI distribution specification,
 * "Pushing a blob in chunks"). Trying again does not count where the last try got further.
 *
 * @param begun Where the registry has begun an upload already (a mount that it turned into one).
 */
export async function uploadBlob(
  descriptor: Descriptor,
  source: ContentSource,
  target: UploadTarget,
  options: UploadOptions,
  begun: string | undefined,
): Promise<void> {
  const upload = new Upload(descriptor, source, target, options);
  let given = begun;
  let first = true;
  await withRetries(
    async () => {
      if (!first && (await target.hasBlob())) {
        return upload.end();
      }
      first = false;
      const location = given;
      given = undefined;
      return upload.run(location);
    },
    options.retries,
    () => upload.advanced(),
  );
}

class Upload {
  /** Names the upload, for messages and where it is remembered: `registry/name@digest`. */
  private readonly key: string;
  private furthest = 0;
  private asked = false;
  private reached = 0;

  constructor(
    private readonly descriptor: Descriptor,
    private readonly source: ContentSource,
    private readonly target: UploadTarget,
    private readonly options: UploadOptions,
  ) {
    this.key = `${target.label}@${descriptor.digest}`;
  }

  /** Whether the last try got further than all before it, by more than a few bytes: those would go on for ever. */
  advanced(): boolean {
    const further = this.reached >= this.furthest + leastAdvance;
    this.furthest = further ? this.reached : this.furthest;
    return further;
  }

  /** The upload is over. */
  async end(): Promise<void> {
    await this.options.sessions.forget(this.key);
  }

  async run(begun: string | undefined): Promise<void> {
    if (this.descriptor.size < resumableSize) {
      return this.sendWhole(begun ?? (await this.begin()));
    }
    const resumed = begun === undefined ? await this.resume() : undefined;
    const session = resumed ?? { location: begun ?? (await this.begin()), offset: 0 };
    try {
      await this.sendRest(session);
    } catch (error) {
      if (error instanceof HodError && error.fault === 'corrupt') {
        await this.cancel(session.location);
      }
      throw error;
    }
    await this.end();
  }

  private async begin(): Promise<string> {
    const request = {
      method: 'POST' as const,
      path: 'blobs/uploads/',
      headers: { 'content-length': '0' },
      expect: [202, 404],
      purpose: 'could not begin an upload',
    };
    let response = await this.target.send(request);
    if (response.statusCode === 404) {
      await response.body.dump();
      if (!(await this.target.createRepository())) {
        throw new HodError('no-repository', {
          what: request.purpose,
          object: this.key,
          why: `there is no repository ${this.target.label}, and the registry does not make one by itself`,
          next: 'create it, or name a command that does with `create-repository:` under the registry in hod.yaml',
        });
      }
      response = await this.target.send({ ...request, expect: [202] });
    }
    await response.body.dump();
    return this.locationOf(response);
  }

  /** Asks the registry how far a remembered upload got ("Resuming a blob upload"). */
  private async resume(): Promise<Session | undefined> {
    const location = await this.options.sessions.recall(this.key);
    if (location === undefined) {
      return undefined;
    }
    const response = await this.target.send({
      method: 'GET',
      path: location,
      expect: [200, 204, 405, ...sessionLost],
      purpose: 'could not ask how far an upload got',
    });
    await response.body.dump();
    const end = /^(?:bytes=)?0-(\d+)$/.exec(String(response.headers['range'] ?? ''))?.[1];
    const offset = Number(end ?? 0) + 1;
    // `0-0` is said of one byte and of none.
    if (response.statusCode >= 400 || end === undefined || offset === 1 || offset > this.descriptor.size) {
      await this.end();
      return undefined;
    }
    return { location: this.locationOf(response, location), offset };
  }

  private async sendWhole(location: string): Promise<void> {
    const { digest, size } = this.descriptor;
    await this.reading(async (pieces) => {
      this.reached = 0;
      if (size === 0) {
        // No piece of it is taken; what is promised is checked all the same.
        await pieces.skip(1);
      }
      await this.finish(withDigest(location, digest), String(size), () => this.bodyOf(pieces, size));
    });
  }

  private sendRest(session: Session): Promise<void> {
    return this.reading((pieces) => this.sendPieces(session, pieces));
  }

  private async sendPieces(session: Session, pieces: Pieces): Promise<void> {
    const { digest, size } = this.descriptor;
    this.reached = session.offset;
    await pieces.skip(session.offset);
    let { location, offset } = session;
    while (offset < size) {
      await this.options.sessions.remember(this.key, location);
      const length = Math.min(chunkSize, size - offset);
      const response = await this.target.send({
        method: 'PATCH',
        path: location,
        bulk: length,
        headers: {
          'content-type': 'application/octet-stream',
          'content-length': String(length),
          'content-range': `${offset}-${offset + length - 1}`,
        },
        body: onlyOnce(() => this.bodyOf(pieces, length)),
        expect: [202, 204, ...sessionLost],
        purpose: 'could not upload a blob',
      });
      await this.refuseLost(response);
      location = this.locationOf(response, location);
      offset += length;
    }
    await this.options.sessions.remember(this.key, location);
    await this.finish(withDigest(location, digest), '0', undefined);
  }

  /** Ends the upload. What the registry holds may be gone or damaged; where it refuses the whole, all begins anew. */
  private async finish(path: string, length: string, body: RegistryRequest['body']): Promise<void> {
    const response = await this.target.send({
      method: 'PUT',
      path,
      // Before it answers, a registry may read everything again.
      bulk: this.descriptor.size,
      headers: { 'content-type': 'application/octet-stream', 'content-length': length },
      ...(body === undefined ? {} : { body: onlyOnce(body) }),
      expect: [201, ...sessionLost],
      purpose: 'could not upload a blob',
    });
    await this.refuseLost(response);
  }

  private async refuseLost(response: RegistryResponse): Promise<void> {
    if (!sessionLost.includes(response.statusCode)) {
      await response.body.dump();
      this.asked = false;
      return;
    }
    const { words: said } = await registrySays(response, this.options.secrets);
    if (response.statusCode === otherByte && !this.asked) {
      // It may not have counted the last bytes yet when it was asked how far it got: it is asked once more.
      this.asked = true;
    } else {
      await this.end();
    }
    throw new TransientError('upload-lost', {
      what: 'could not upload a blob',
      object: this.key,
      why: withSaid(`the registry no longer takes the upload (${response.statusCode})`, said),
      next: 'run the command again; what has arrived is not sent again',
    });
  }

  private async cancel(location: string): Promise<void> {
    await this.end();
    await this.target
      .send({
        method: 'DELETE',
        path: location,
        expect: [200, 202, 204, 404],
        purpose: 'could not cancel an upload',
      })
      .then((response) => response.body.dump())
      .catch(() => undefined);
  }

  /** Does work on the content, and closes where it comes from, however that ends. */
  private async reading(work: (pieces: Pieces) => Promise<void>): Promise<void> {
    const bytes = await this.source.openBlob(this.descriptor);
    const pieces = new Pieces(verified(bytes, this.descriptor, this.source.label));
    try {
      await work(pieces);
    } finally {
      await pieces.close();
    }
  }

  private bodyOf(pieces: Pieces, length: number): Readable {
    const count = (bytes: number): void => {
      this.reached += bytes;
      this.options.sent(bytes);
    };
    async function* counted() {
      for await (const piece of pieces.take(length)) {
        count(piece.length);
        yield piece;
      }
    }
    return Readable.from(counted(), { objectMode: false });
  }

  private locationOf(response: RegistryResponse, before?: string): string {
    const about: About = { purpose: 'could not upload a blob', object: this.key };
    const location = locationOf(response, about)?.href ?? before;
    if (location === undefined) {
      throw new HodError('location-missing', {
        what: 'could not begin an upload',
        object: this.key,
        why: 'the registry did not say where to send it (no Location)',
        next: lookIntoLog,
      });
    }
    return location;
  }
}

function withDigest(location: string, digest: string): string {
  return `${location}${location.includes('?') ? '&' : '?'}digest=${encodeURIComponent(digest)}`;
}
