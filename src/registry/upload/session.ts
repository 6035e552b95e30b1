import type { Secrets } from '../../core/access/secrets';
import { HodError } from '../../core/errors';
import type { Descriptor } from '../../core/oci/descriptor';
import type { Digest } from '../../core/oci/digest';
import type { Connection } from '../connection';
import { locationOf, lookIntoLog, type About, type RegistryRequest, type RegistryResponse } from '../../http/exchange';
import { TransientError } from '../../http/retry';
import { bodyTooLarge, registrySays, withSaid } from '../../http/status-problems';
import type { Intake } from '../intake';
import type { RepositoryRequest, RepositoryRequests } from '../requests';
import { onlyOnce } from './pieces';
import { isSmall } from './small';
import type { UnfinishedUploads } from './unfinished';

/** A request of an upload, as far as the upload knows it. */
type UploadRequest = Omit<RepositoryRequest, 'access' | 'part' | 'scopes'>;

/** How far an upload got: where it goes on, and how many bytes the registry has. */
export interface UploadState {
  readonly location: string;
  readonly offset: number;
}

/** What an upload is for, for messages. */
const purpose = 'could not upload a blob';

/** How registries say that they do not know an upload any more, are at another byte of it, or refuse what it holds. */
const sessionLost: readonly number[] = [400, 404, 409, 412, 416, 422];
/** The registry is at another byte of an upload that it still knows ("Pushing a blob in chunks"). */
const otherByte = 416;
/** What stands in front takes no body of this size (RFC 9110 §15.5.14). */
const tooLarge = 413;
/** What stands in front no longer waits for the registry (RFC 9110 §15.6.3–5). */
const gaveUp: readonly number[] = [502, 503, 504];

/** What became of bytes that were sent: `too-large` where a request may not have so many. */
export type Sent = { readonly kind: 'taken'; readonly location: string } | { readonly kind: 'too-large' };

/** The requests of one upload, and what their answers mean (OCI distribution specification, "Pushing blobs"). */
export class UploadSession {
  /** Names the upload, for messages and where it is remembered: `registry/name@digest`. */
  private readonly key: string;
  private asked = false;

  constructor(
    readonly descriptor: Descriptor,
    private readonly requests: RepositoryRequests,
    private readonly connection: Connection,
    private readonly unfinished: UnfinishedUploads,
  ) {
    this.key = `${requests.label}@${descriptor.digest}`;
  }

  get about(): About {
    return { purpose, object: this.key };
  }

  get intake(): Intake {
    return this.connection.intake;
  }

  get secrets(): Secrets {
    return this.connection.secrets;
  }

  /** The upload goes on here, also in a later run. */
  async remember(location: string): Promise<void> {
    await this.unfinished.remember(this.key, location);
  }

  /** The upload is over. */
  async end(): Promise<void> {
    await this.unfinished.forget(this.key);
  }

  /** Begins an upload, and makes the repository where it does not exist. Returns where the upload goes on. */
  async begin(): Promise<string> {
    const request = {
      method: 'POST' as const,
      path: 'blobs/uploads/',
      headers: { 'content-length': '0' },
      expect: [202, 404],
      purpose: 'could not begin an upload',
    };
    let response = await this.send(request);
    if (response.statusCode === 404) {
      await response.body.dump();
      if (!(await this.connection.createRepository(this.requests.repository.name))) {
        throw new HodError('no-repository', {
          what: request.purpose,
          object: this.key,
          why: `there is no repository ${this.requests.label}, and the registry does not make one by itself`,
          next: 'create it, or name a command that does with `create-repository:` under the registry in hod.yaml',
        });
      }
      response = await this.send({ ...request, expect: [202] });
    }
    await response.body.dump();
    return this.locationOf(response);
  }

  /** Asks the registry how far a remembered upload got ("Resuming a blob upload"); undefined where it goes on nowhere. */
  async resume(): Promise<UploadState | undefined> {
    const location = await this.unfinished.recall(this.key);
    if (location === undefined) {
      return undefined;
    }
    const response = await this.send({
      method: 'GET',
      path: location,
      expect: [200, 204, 405, ...sessionLost],
      purpose: 'could not resume an upload',
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

  /** Sends bytes of an upload ("Pushing a blob in chunks"). */
  async sendChunk(
    { location, offset }: UploadState,
    length: number,
    body: NonNullable<RegistryRequest['body']>,
  ): Promise<Sent> {
    const response = await this.send({
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
    return this.sent(response, () => this.locationOf(response, location));
  }

  /** Sends all bytes of an upload, and ends it ("Pushing a blob monolithically"). */
  async sendWhole(location: string, bytes: Uint8Array, told: () => void): Promise<Sent> {
    const response = await this.complete(location, this.descriptor.digest, {
      bulk: bytes.length,
      headers: { 'content-type': 'application/octet-stream', 'content-length': String(bytes.length) },
      body: () => {
        told();
        return bytes;
      },
      expect: [201, tooLarge, ...sessionLost],
    });
    return this.sent(response, () => location);
  }

  /**
   * Ends an upload whose bytes were sent: `gave-up` where what stands in front no longer waits for the registry, `refused`
   * where the registry does not take the content.
   */
  async finish(location: string): Promise<{ kind: 'done' | 'gave-up' | 'refused'; response: RegistryResponse }> {
    const { digest, size } = this.descriptor;
    // Before it answers, a registry may read everything again.
    const response = await this.complete(location, digest, { bulk: size });
    const { statusCode } = response;
    const kind = gaveUp.includes(statusCode) ? 'gave-up' : sessionLost.includes(statusCode) ? 'refused' : 'done';
    if (kind !== 'refused') {
      await response.body.dump();
    }
    return { kind, response };
  }

  /** So many bytes in one request were too many. Throws where fewer need not be tried. */
  async shrink(bytes: number): Promise<void> {
    if (!(await this.intake.refused(bytes))) {
      throw bodyTooLarge(this.about, this.intake.registry, bytes);
    }
  }

  /** Ends an upload under a digest that its bytes may not have. Returns the answer, whose body nobody has read. */
  complete(location: string, digest: Digest, more: Partial<UploadRequest> = {}): Promise<RegistryResponse> {
    return this.send({
      method: 'PUT',
      path: `${location}${location.includes('?') ? '&' : '?'}digest=${encodeURIComponent(digest)}`,
      headers: { 'content-type': 'application/octet-stream', 'content-length': '0' },
      expect: [201, ...gaveUp, ...sessionLost],
      purpose,
      ...more,
    });
  }

  /** The error for an upload that the registry does not take any more; it begins anew, unless it only is at another byte. */
  async lost(response: RegistryResponse): Promise<TransientError> {
    const { words: said } = await registrySays(response, this.secrets);
    if (response.statusCode === otherByte && !this.asked) {
      // It may not have counted the last bytes yet when it was asked how far it got: it is asked once more.
      this.asked = true;
    } else {
      await this.end();
    }
    return new TransientError('upload-lost', {
      what: purpose,
      object: this.key,
      why: withSaid(`the registry no longer takes the upload (${response.statusCode})`, said),
      next: 'run the command again; what has arrived is not sent again',
    });
  }

  /** Cancels the upload, where the registry lets it. */
  async cancel(location: string): Promise<void> {
    await this.end();
    await this.send({
      method: 'DELETE',
      path: location,
      expect: [200, 202, 204, 404],
      purpose: 'could not cancel an upload',
    })
      .then((response) => response.body.dump())
      .catch(() => undefined);
  }

  /** Throws where the upload is lost. */
  private async sent(response: RegistryResponse, next: () => string): Promise<Sent> {
    if (sessionLost.includes(response.statusCode)) {
      throw await this.lost(response);
    }
    await response.body.dump();
    if (response.statusCode !== tooLarge) {
      this.asked = false;
      return { kind: 'taken', location: next() };
    }
    return { kind: 'too-large' };
  }

  private send(request: UploadRequest): Promise<RegistryResponse> {
    const complete: RepositoryRequest = { ...request, access: 'write', part: `@${this.descriptor.digest}` };
    return isSmall(this.descriptor) ? this.requests.sendSmall(complete) : this.requests.sendOnce(complete);
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
