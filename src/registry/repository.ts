import { Readable } from 'node:stream';
import * as z from 'zod';
import { HodError } from '../core/errors';
import { verified, type ContentSource } from '../core/oci/content';
import type { Descriptor } from '../core/oci/descriptor';
import { isDigest, type Digest } from '../core/oci/digest';
import { manifestSizeLimit, parseJson, parseManifest, type Manifest } from '../core/oci/manifest';
import { acceptedManifestTypes } from '../core/oci/media-types';
import { formatRepository, type Repository } from '../core/oci/reference';
import { isTag, type Tag } from '../core/tags/tag';
import type { Connection, Connections } from './connection';
import type { FetchedResponse, RegistryRequest, RegistryResponse } from './exchange';
import { withRetries } from './retry';

const digestHeader = 'docker-content-digest';

/** One repository, over the OCI distribution protocol. Counts its requests. */
export class RepositoryClient implements ContentSource {
  /** How many requests were sent, redirects and repetitions among them. */
  requests = 0;
  readonly label: string;
  private readonly connection: Connection;

  constructor(
    readonly repository: Repository,
    connections: Connections,
  ) {
    this.connection = connections.to(repository.registry);
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
  openBlob({ digest }: Descriptor): Promise<AsyncIterable<Uint8Array>> {
    const request = this.request('GET', `blobs/${digest}`, [200], 'could not read a blob', `@${digest}`);
    return Promise.resolve(this.connection.stream(request, this.count));
  }

  /**
   * Asks the registry to take a blob over from another of its repositories ("Mounting a blob from
   * another repository"). Answers false where it will not; nothing is uploaded then.
   */
  async mountBlob(digest: Digest, from: Repository): Promise<boolean> {
    const query = new URLSearchParams({ mount: digest, from: from.name });
    const rest = `blobs/uploads/?${query.toString()}`;
    const response = await this.send(this.request('POST', rest, [201, 202], 'could not mount a blob', `@${digest}`));
    await response.body.dump();
    return response.statusCode === 201;
  }

  /**
   * Uploads a blob in one request ("POST then PUT"), hashed while it is sent. A broken upload is
   * begun again, unless the blob has arrived all the same.
   */
  async uploadBlob(descriptor: Descriptor, source: ContentSource): Promise<void> {
    const { digest, size } = descriptor;
    const object = `${this.label}@${digest}`;
    let first = true;
    await withRetries(async () => {
      if (!first && (await this.hasBlob(digest))) {
        return;
      }
      first = false;
      const begun = await this.sendOnce({
        method: 'POST',
        target: this.path('blobs/uploads/'),
        headers: { 'content-length': '0' },
        expect: [202],
        purpose: 'could not begin an upload',
        object,
      });
      await begun.body.dump();
      const location = begun.headers['location'];
      if (typeof location !== 'string') {
        throw new HodError('unavailable', {
          what: 'could not begin an upload',
          object,
          why: `${this.repository.registry} did not say where to send it (no Location)`,
        });
      }
      const bytes = verified(await source.openBlob(descriptor), descriptor, source.label);
      const target = `${location}${location.includes('?') ? '&' : '?'}digest=${encodeURIComponent(digest)}`;
      const done = await this.sendOnce({
        method: 'PUT',
        target,
        headers: { 'content-type': 'application/octet-stream', 'content-length': String(size) },
        body: Readable.from(bytes, { objectMode: false }),
        expect: [201],
        purpose: 'could not upload a blob',
        object,
      });
      await done.body.dump();
    });
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
      body: Buffer.from(manifest.bytes),
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

  /** Every tag, page after page ("Listing Tags"). A repository that does not exist has none. */
  async *tags(): AsyncGenerator<Tag> {
    let target: string | undefined = this.path('tags/list?n=1000');
    while (target !== undefined) {
      const here: string = target;
      const response = await this.fetch({
        method: 'GET',
        target: here,
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
    return { method, target: this.path(rest), expect, purpose, object: `${this.label}${part}` };
  }

  private manifestRequest(method: 'GET' | 'HEAD', reference: Tag | Digest, expect: readonly number[]): RegistryRequest {
    const object = this.objectOf(reference);
    const headers = { accept: acceptedManifestTypes.join(', ') };
    const target = this.path(`manifests/${reference}`);
    return { method, target, headers, expect, purpose: 'could not read a manifest', object };
  }

  private readonly count = (): void => {
    this.requests += 1;
  };

  private send(request: RegistryRequest): Promise<RegistryResponse> {
    return this.connection.send(request, this.count);
  }

  private sendOnce(request: RegistryRequest): Promise<RegistryResponse> {
    return this.connection.sendOnce(request, this.count);
  }

  private fetch(request: RegistryRequest): Promise<FetchedResponse> {
    return this.connection.fetch(request, manifestSizeLimit, this.count);
  }
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
