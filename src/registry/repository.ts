import * as z from 'zod';
import type { Scope } from '../core/access/challenge';
import { HodError } from '../core/errors';
import type { ContentSource } from '../core/oci/content';
import type { Descriptor } from '../core/oci/descriptor';
import { isDigest, sha256, type Digest } from '../core/oci/digest';
import { manifestSizeLimit, parseJson, parseManifest, type Manifest } from '../core/oci/manifest';
import { acceptedManifestTypes, mediaTypes } from '../core/oci/media-types';
import { formatRepository, type Repository } from '../core/oci/reference';
import { isTag, type Tag } from '../core/tags/tag';
import type { Connection, Connections } from './connection';
import type { FetchedResponse, RegistryRequest, RegistryResponse } from './exchange';
import { uploadBlob, type UploadSessions } from './upload';

const digestHeader = 'docker-content-digest';

/** One repository, over the OCI distribution protocol. Counts its requests. */
export class RepositoryClient implements ContentSource {
  /** How many requests were sent, redirects and repetitions among them. */
  requests = 0;
  readonly label: string;
  constructor(
    readonly repository: Repository,
    private readonly connections: Connections,
    private readonly sessions: UploadSessions,
  ) {
    this.label = formatRepository(repository);
  }

  /** Whether a blob is there ("Checking if content exists in the registry"). */
  async hasBlob(digest: Digest): Promise<boolean> {
    const request = this.request('HEAD', `blobs/${digest}`, [200, 404], 'could not look for a blob', `@${digest}`);
    const response = await this.send(request);
    await response.body.dump();
    return response.statusCode === 200;
  }

  /** The bytes of a blob, unchecked ("Pulling blobs"). */
  async openBlob({ digest }: Descriptor): Promise<AsyncIterable<Uint8Array>> {
    const request = this.request('GET', `blobs/${digest}`, [200], 'could not read a blob', `@${digest}`);
    return (await this.connection).stream(request, this.count);
  }

  /**
   * Asks the registry to take a blob over from another of its repositories ("Mounting a blob from
   * another repository"). Where it will not, it has begun an upload, whose location is answered.
   */
  async mountBlob(
    digest: Digest,
    from: Repository,
  ): Promise<{ mounted: true } | { mounted: false; upload: string | undefined }> {
    const query = new URLSearchParams({ mount: digest, from: from.name });
    const request = this.request(
      'POST',
      `blobs/uploads/?${query.toString()}`,
      [201, 202, 404],
      'could not mount a blob',
      `@${digest}`,
    );
    const scopes: Scope[] = [...request.scopes, { repository: from.name, access: 'read' }];
    const response = await this.send({ ...request, scopes, headers: { 'content-length': '0' } }).catch(
      (error: unknown) => {
        if (error instanceof HodError && error.problem.reason === 'no-right') {
          // Without the right to read there, the blob is uploaded; without the right to write here, that says so.
          return undefined;
        }
        throw error;
      },
    );
    if (response === undefined) {
      return { mounted: false, upload: undefined };
    }
    await response.body.dump();
    const location = response.headers['location'];
    return response.statusCode === 201
      ? { mounted: true }
      : { mounted: false, upload: response.statusCode === 202 && typeof location === 'string' ? location : undefined };
  }

  /** Asks for something that needs the right to read. Throws where it is not given, or there is no such repository. */
  async probeRead(): Promise<void> {
    await this.fetch(this.request('GET', 'tags/list?n=1', [200], 'could not read a repository', ''));
  }

  /**
   * Asks for something that needs the right to write and cannot succeed: to store a manifest under a
   * digest that is not its own. Throws where the right is not given, or there is no such repository.
   */
  async probeWrite(): Promise<void> {
    const other = sha256('not what is sent');
    const request = this.request('PUT', `manifests/${other}`, [400, 422], 'could not write to a repository', '');
    const headers = { 'content-type': mediaTypes.manifest };
    const response = await this.send({ ...request, headers, body: () => Buffer.from('{}') });
    await response.body.dump();
  }

  /** Uploads a blob; see {@link uploadBlob}. */
  async uploadBlob(descriptor: Descriptor, source: ContentSource, options: BlobUpload): Promise<void> {
    const connection = await this.connection;
    const scopes: Scope[] = [{ repository: this.repository.name, access: 'write' }];
    await uploadBlob(
      descriptor,
      source,
      {
        label: this.label,
        uploadsPath: this.path('blobs/uploads/'),
        send: (request) => connection.sendOnce({ ...request, scopes }, this.count),
        hasBlob: () => this.hasBlob(descriptor.digest),
        createRepository: () => connection.createRepository(this.repository.name),
      },
      { sessions: this.sessions, sent: options.sent, firstDelay: connection.patience.retry },
      options.begun,
    );
  }

  /** The digest that a tag or digest resolves to; undefined where there is none ("Checking if content exists"). */
  async resolve(reference: Tag | Digest): Promise<Digest | undefined> {
    const response = await this.send(this.manifestRequest('HEAD', reference, [200, 404]));
    await response.body.dump();
    if (response.statusCode === 404) {
      return undefined;
    }
    const digest = response.headers[digestHeader];
    if (typeof digest === 'string' && isDigest(digest)) {
      return digest;
    }
    return isDigest(reference) ? reference : (await this.manifest(reference))?.digest;
  }

  /** A manifest, checked; undefined where there is none ("Pulling manifests"). */
  async manifest(reference: Tag | Digest): Promise<Manifest | undefined> {
    const response = await this.fetch(this.manifestRequest('GET', reference, [200, 404]));
    if (response.statusCode === 404) {
      return undefined;
    }
    const header = response.headers[digestHeader];
    const promised = typeof header === 'string' && isDigest(header) ? header : undefined;
    return parseManifest(response.body, {
      from: this.objectOf(reference),
      mediaType: mediaTypeOf(response),
      digest: isDigest(reference) ? reference : promised,
    });
  }

  /** The bytes of a manifest, unchecked. Throws `missing` where there is none. */
  async readManifest(descriptor: Descriptor): Promise<Uint8Array> {
    return (await this.fetch(this.manifestRequest('GET', descriptor.digest, [200]))).body;
  }

  /** Writes a manifest under a tag, or under its own digest ("Pushing Manifests"). */
  async putManifest(reference: Tag | Digest, manifest: Manifest): Promise<void> {
    const response = await this.send({
      method: 'PUT',
      target: this.path(`manifests/${reference}`),
      headers: { 'content-type': manifest.mediaType },
      body: () => Buffer.from(manifest.bytes),
      scopes: this.scopes('write'),
      expect: [201],
      purpose: isDigest(reference) ? 'could not write a manifest' : 'could not write a tag',
      object: this.objectOf(reference),
    });
    await response.body.dump();
    const stored = response.headers[digestHeader];
    if (typeof stored === 'string' && stored !== manifest.digest) {
      throw new HodError('corrupt', {
        what: 'the registry stored another manifest than it was sent',
        object: this.objectOf(reference),
        why: `it was sent ${manifest.digest} and says that it stored ${stored}`,
        next: 'look for something that rewrites requests between here and the registry',
      });
    }
  }

  /** Removes a tag ("Deleting tags"). Answers false where the registry removes none, or not for us. */
  async deleteTag(tag: Tag): Promise<boolean> {
    const refusals = [400, 403, 404, 405, 501];
    const request = this.request(
      'DELETE',
      `manifests/${tag}`,
      [200, 202, 204, ...refusals],
      'could not remove a tag',
      `:${tag}`,
    );
    const scopes: Scope[] = this.scopes('delete');
    try {
      const response = await this.send({ ...request, scopes });
      await response.body.dump();
      return !refusals.includes(response.statusCode) || response.statusCode === 404;
    } catch (error) {
      if (error instanceof HodError && error.fault === 'denied') {
        return false;
      }
      throw error;
    }
  }

  /** Every tag, page after page ("Listing Tags"). A repository that does not exist has none. */
  async *tags(): AsyncGenerator<Tag> {
    let target: string | undefined = this.path('tags/list?n=1000');
    while (target !== undefined) {
      const here: string = target;
      const response = await this.fetch({
        method: 'GET',
        target: here,
        scopes: this.scopes('read'),
        expect: [200, 404],
        purpose: 'could not list the tags',
        object: this.label,
      });
      if (response.statusCode === 404) {
        return;
      }
      const page = tagListSchema.safeParse(parseJson(response.body) ?? null);
      yield* (page.data?.tags ?? []).filter(isTag);
      target = nextPage(response.headers['link'], here);
    }
  }

  private objectOf(reference: Tag | Digest): string {
    return `${this.label}${isDigest(reference) ? '@' : ':'}${reference}`;
  }

  private path(rest: string): string {
    return `/v2/${this.repository.name}/${rest}`;
  }

  private request(
    method: RegistryRequest['method'],
    rest: string,
    expect: readonly number[],
    purpose: string,
    part: string,
  ): RegistryRequest {
    const scopes = this.scopes(method === 'GET' || method === 'HEAD' ? 'read' : 'write');
    return { method, target: this.path(rest), scopes, expect, purpose, object: `${this.label}${part}` };
  }

  private manifestRequest(method: 'GET' | 'HEAD', reference: Tag | Digest, expect: readonly number[]): RegistryRequest {
    const object = this.objectOf(reference);
    const headers = { accept: acceptedManifestTypes.join(', ') };
    const target = this.path(`manifests/${reference}`);
    return {
      method,
      target,
      headers,
      scopes: this.scopes('read'),
      expect,
      purpose: 'could not read a manifest',
      object,
    };
  }

  private readonly count = (): void => {
    this.requests += 1;
  };

  private get connection(): Promise<Connection> {
    return this.connections.to(this.repository.registry);
  }

  private scopes(access: Scope['access']): Scope[] {
    return [{ repository: this.repository.name, access }];
  }

  private async send(request: RegistryRequest): Promise<RegistryResponse> {
    return (await this.connection).send(request, this.count);
  }

  private async fetch(request: RegistryRequest): Promise<FetchedResponse> {
    return (await this.connection).fetch(request, manifestSizeLimit, this.count);
  }
}

/** How one blob is uploaded. */
export interface BlobUpload {
  /** Told of bytes as they are sent. */
  sent: (bytes: number) => void;
  /** Where the registry has begun the upload already. */
  begun: string | undefined;
}

const tagListSchema = z.object({ tags: z.array(z.string()).nullish() });

function mediaTypeOf(response: FetchedResponse): string | undefined {
  const [type] = String(response.headers['content-type'] ?? '').split(';');
  return type === undefined || type === '' ? undefined : type.trim();
}

/** The target of `Link: <…>; rel="next"` (RFC 8288). */
function nextPage(link: string | string[] | undefined, here: string): string | undefined {
  const match = /<([^>]+)>\s*;\s*rel="?next"?/.exec(String(link ?? ''));
  const next = match?.[1];
  return next === undefined || next === here ? undefined : next;
}
