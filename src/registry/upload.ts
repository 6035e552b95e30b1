import { setTimeout as delay } from 'node:timers/promises';
import type { Secrets } from '../core/access/secrets';
import { allBytes } from '../core/bytes';
import { HodError } from '../core/errors';
import { measured, verified, type ContentSource } from '../core/oci/content';
import type { Descriptor } from '../core/oci/descriptor';
import { sha256, type Digest, type DigestHasher } from '../core/oci/digest';
import { locationOf, lookIntoLog, type About, type RegistryRequest, type RegistryResponse } from './http/exchange';
import { Advance, TransientError, withRetries, type Retries } from './http/retry';
import { bodyTooLarge, passingProblem, registrySays, withSaid } from './http/status-problems';
import { rereadingTime } from './http/wire';
import type { Intake } from './intake';
import { onlyOnce, Pieces } from './pieces';
import type { RepositoryRequest } from './requests';
import type { UploadSessions } from './upload-sessions';

/** A request for an upload, as far as the upload knows it. */
type UploadRequest = Omit<RepositoryRequest, 'access' | 'part' | 'scopes'>;

/** What an upload needs of the repository that it goes to. */
export interface UploadTarget {
  /** `registry/name`. */
  readonly label: string;
  readonly intake: Intake;
  send(request: UploadRequest): Promise<RegistryResponse>;
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
  /** Makes what hashes a large blob, by the algorithm of its digest. */
  hasher: (like: Digest) => DigestHasher;
  /** What is taken out of what the registry says. */
  secrets: Secrets;
}

/** Blobs of so many bytes stay in memory: they go up in one request, and are sent again where it breaks. */
export const smallSize = 1024 * 1024;

/** What an upload is for, for messages. */
const purpose = 'could not upload a blob';

/** Whether a blob is small enough to stay in memory. */
export function isSmall({ size }: Pick<Descriptor, 'size'>): boolean {
  return size <= smallSize;
}

/** How registries say that they do not know an upload any more, are at another byte of it, or refuse what it holds. */
const sessionLost: readonly number[] = [400, 404, 409, 412, 416, 422];
/** The registry is at another byte of an upload that it still knows ("Pushing a blob in chunks"). */
const otherByte = 416;
/** What stands in front takes no body of this size (RFC 9110 §15.5.14). */
const tooLarge = 413;
/** What stands in front no longer waits for the registry (RFC 9110 §15.6.3–5). */
const gaveUp: readonly number[] = [502, 503, 504];

interface Session {
  location: string;
  /** How many bytes the registry holds. */
  offset: number;
}

/**
 * Uploads one blob. A large one goes up in chunks, and goes on from where the registry says that it
 * broke off, also in a later run (OCI distribution specification, "Pushing a blob in chunks"). Trying
 * again does not count where the last try got further.
 *
 * Its bytes are hashed once: here, or by a registry that was seen to refuse what is not what its digest
 * says. Where that refuses, they are hashed here too, to tell what is corrupt from what was damaged on the way.
 *
 * `begun`: where the registry has begun an upload already (a mount that it turned into one).
 */
export async function uploadBlob(
  descriptor: Descriptor,
  source: ContentSource,
  target: UploadTarget,
  { begun, ...options }: UploadOptions & { readonly begun: string | undefined },
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
    () => upload.advance.made(),
  );
}

class Upload {
  readonly advance = new Advance();
  /** Names the upload, for messages and where it is remembered: `registry/name@digest`. */
  private readonly key: string;
  private asked = false;

  constructor(
    private readonly descriptor: Descriptor,
    private readonly source: ContentSource,
    private readonly target: UploadTarget,
    private readonly options: UploadOptions,
  ) {
    this.key = `${target.label}@${descriptor.digest}`;
  }

  /** The upload is over. */
  async end(): Promise<void> {
    await this.options.sessions.forget(this.key);
  }

  async run(begun: string | undefined): Promise<void> {
    if (isSmall(this.descriptor) && this.descriptor.size <= (await this.target.intake.largestBody())) {
      return this.sendWhole(begun);
    }
    const [hashed, session] = await Promise.all([this.isHashed(), this.goOn(begun)]);
    try {
      await this.sendRest(session, hashed);
    } catch (error) {
      if (error instanceof HodError && error.fault === 'corrupt') {
        await this.cancel(session.location);
      }
      throw error;
    }
    await this.end();
  }

  /** Whether nobody but us is known to hash it. */
  private async isHashed(): Promise<boolean> {
    return isSmall(this.descriptor) || !(await this.target.intake.checks(() => this.probe()));
  }

  /** An upload that goes on, or begins. */
  private async goOn(begun: string | undefined): Promise<Session> {
    const resumed = begun === undefined ? await this.resume() : undefined;
    return resumed ?? { location: begun ?? (await this.begin()), offset: 0 };
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

  /**
   * Whether the registry refuses content that is not what its digest says: a few bytes are sent under
   * the digest of others, in the way of large blobs. Only a refusal that names that cause counts; undefined
   * where it is refused for another.
   */
  private async probe(): Promise<boolean | undefined> {
    const bytes = Buffer.from('sent under the digest of other bytes');
    const location = await this.begin();
    const { after } = await this.sendChunk(location, 0, bytes.length, () => bytes);
    const response = await this.complete(after, sha256('other bytes'));
    const { codes } = await registrySays(response, this.options.secrets);
    return response.statusCode === 201 ? false : codes.includes('DIGEST_INVALID') || undefined;
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

  private async sendWhole(begun: string | undefined): Promise<void> {
    const { descriptor, source } = this;
    const bytes = await allBytes(verified(await source.openBlob(descriptor), descriptor, source.label));
    const location = begun ?? (await this.begin());
    const response = await this.complete(location, descriptor.digest, {
      bulk: bytes.length,
      headers: { 'content-type': 'application/octet-stream', 'content-length': String(bytes.length) },
      body: () => {
        this.options.sent(bytes.length);
        return bytes;
      },
      expect: [201, tooLarge, ...sessionLost],
    });
    if (response.statusCode === tooLarge) {
      await response.body.dump();
      await this.shrink(bytes.length);
      await this.sendRest({ location, offset: 0 }, true);
      return this.end();
    }
    await this.refuseLost(response);
  }

  /** Sends what the registry does not have yet, chunk after chunk. */
  private async sendRest({ location, offset }: Session, hashed: boolean): Promise<void> {
    const { size } = this.descriptor;
    this.advance.reached = offset;
    const pieces = await this.open(hashed ? 0 : offset, hashed);
    let refused: Session | undefined;
    try {
      await pieces.skip(hashed ? offset : 0);
      let now = location;
      for (let at = offset; at < size && refused === undefined;) {
        await this.options.sessions.remember(this.key, now);
        const length = Math.min(await this.target.intake.largestBody(), size - at);
        const { statusCode, after } = await this.sendChunk(now, at, length, () =>
          pieces.body(length, (bytes) => {
            this.advance.reached += bytes;
            this.options.sent(bytes);
          }),
        );
        if (statusCode === tooLarge) {
          await this.shrink(length);
          refused = { location: now, offset: at };
        }
        now = after;
        at += length;
      }
      if (refused === undefined) {
        await this.options.sessions.remember(this.key, now);
        await this.finish(now, hashed);
      }
    } finally {
      await pieces.close();
    }
    if (refused !== undefined) {
      await this.sendRest(refused, hashed);
    }
  }

  private async open(from: number, hashed: boolean): Promise<Pieces> {
    const { descriptor, source } = this;
    const bytes = await source.openBlob(descriptor, from);
    return new Pieces(
      hashed
        ? verified(bytes, descriptor, source.label, this.options.hasher(descriptor.digest))
        : measured(bytes, descriptor, source.label, from),
    );
  }

  /** Sends bytes of an upload. Answers the status, and where it goes on; the status is 413, or says that they were taken. */
  private async sendChunk(
    location: string,
    offset: number,
    length: number,
    body: NonNullable<RegistryRequest['body']>,
  ): Promise<{ statusCode: number; after: string }> {
    const response = await this.target.send({
      method: 'PATCH',
      path: location,
      bulk: length,
      headers: {
        'content-type': 'application/octet-stream',
        'content-length': String(length),
        'content-range': `${offset}-${offset + length - 1}`,
      },
      body: onlyOnce(body),
      expect: [202, 204, tooLarge, ...sessionLost],
      purpose,
    });
    const { statusCode } = response;
    if (statusCode === tooLarge) {
      await response.body.dump();
      return { statusCode, after: location };
    }
    await this.refuseLost(response);
    return { statusCode, after: this.locationOf(response, location) };
  }

  /** So many bytes were too many. Throws where fewer need not be tried. */
  private async shrink(bytes: number): Promise<void> {
    if (!(await this.target.intake.refused(bytes))) {
      throw bodyTooLarge(this.about, this.target.intake.registry, bytes);
    }
  }

  /** Ends the upload. What the registry holds may be gone or damaged; where it refuses the whole, all begins anew. */
  private async finish(location: string, hashed: boolean): Promise<void> {
    const { digest, size } = this.descriptor;
    // Before it answers, a registry may read everything again.
    const response = await this.complete(location, digest, { bulk: size });
    if (gaveUp.includes(response.statusCode)) {
      await response.body.dump();
      if (await this.isFinished()) {
        return;
      }
      throw passingProblem(response, this.about, this.target.intake.registry);
    }
    if (!hashed && sessionLost.includes(response.statusCode)) {
      await this.checkSource();
    }
    await this.refuseLost(response);
  }

  /** Waits for a registry that may still be reading what it was sent, by asking. */
  private async isFinished(): Promise<boolean> {
    const end = performance.now() + rereadingTime(this.descriptor.size);
    let pause = this.options.retries.firstDelay;
    do {
      await delay(pause);
      pause *= 2;
      if (await this.target.hasBlob()) {
        return true;
      }
    } while (performance.now() < end);
    return false;
  }

  /** Throws `corrupt` where the bytes that were sent are not what their digest says. */
  private async checkSource(): Promise<void> {
    const pieces = await this.open(0, true);
    try {
      await pieces.skip(this.descriptor.size);
    } finally {
      await pieces.close();
    }
  }

  private complete(location: string, digest: string, more: Partial<UploadRequest> = {}): Promise<RegistryResponse> {
    return this.target.send({
      method: 'PUT',
      path: `${location}${location.includes('?') ? '&' : '?'}digest=${encodeURIComponent(digest)}`,
      headers: { 'content-type': 'application/octet-stream', 'content-length': '0' },
      expect: [201, ...gaveUp, ...sessionLost],
      purpose,
      ...more,
    });
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
      what: purpose,
      object: this.key,
      why: withSaid(`the registry no longer takes the upload (${response.statusCode})`, said),
      next: 'run the command again; what has arrived is not sent again',
    });
  }

  private get about(): About {
    return { purpose, object: this.key };
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

  private locationOf(response: RegistryResponse, before?: string): string {
    const location = locationOf(response, this.about)?.href ?? before;
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
