import { setTimeout as delay } from 'node:timers/promises';
import { HodError } from '../core/errors';
import type { Descriptor } from '../core/oci/descriptor';
import { digestLike, isDigest, isSameAlgorithm, type Digest } from '../core/oci/digest';
import { parseManifest, type Manifest } from '../core/oci/manifest';
import { acceptedManifestTypes } from '../core/oci/media-types';
import type { Tag } from '../core/oci/tag';
import type { FetchedResponse } from '../http/exchange';
import { isPage } from '../http/status-problems';
import { digestHeader, removeReference, type RepositoryRequest, type RepositoryRequests } from './requests';

/** The manifests of one repository (OCI distribution specification). */
export class Manifests {
  /** @param taken Told whether the registry will list a manifest that was written with those that refer to its subject. */
  constructor(
    private readonly requests: RepositoryRequests,
    private readonly taken: (listed: boolean) => void,
  ) {}

  /**
   * The digest that a tag or digest resolves to; undefined where there is none ("Checking if content exists").
   *
   * @param like A digest that it will be compared with: some registries answer in another algorithm.
   */
  async resolve(reference: Tag | Digest, like?: Digest): Promise<Digest | undefined> {
    const response = await this.requests.ask(reading('HEAD', reference, [200, 404]));
    if (response.statusCode === 404) {
      return undefined;
    }
    const wanted = like ?? (isDigest(reference) ? reference : undefined);
    const digest = response.headers[digestHeader];
    if (typeof digest === 'string' && isDigest(digest) && (wanted === undefined || isSameAlgorithm(digest, wanted))) {
      return digest;
    }
    if (isDigest(reference) && !isPage(response)) {
      return reference;
    }
    // The header does not tell. The bytes do.
    const manifest = await this.get(reference);
    return manifest === undefined || wanted === undefined ? manifest?.digest : digestLike(manifest.bytes, wanted);
  }

  /** A manifest, checked; undefined where there is none ("Pulling manifests"). */
  async get(reference: Tag | Digest): Promise<Manifest | undefined> {
    const response = await this.requests.fetch(reading('GET', reference, [200, 404]));
    if (response.statusCode === 404) {
      return undefined;
    }
    const header = response.headers[digestHeader];
    const promised = typeof header === 'string' && isDigest(header) ? header : undefined;
    return parseManifest(response.body, {
      label: `${this.requests.label}${partOf(reference)}`,
      mediaType: mediaTypeOf(response),
      digest: isDigest(reference) ? reference : promised,
    });
  }

  /** The bytes of a manifest, unchecked. Throws `missing` where there is none. */
  async read({ digest }: Descriptor): Promise<Uint8Array> {
    return (await this.requests.fetch(reading('GET', digest, [200]))).body;
  }

  /**
   * Points a tag to a manifest, and reads back what it leads to then; undefined where it leads nowhere.
   * Another digest is no failure by itself: somebody else may have moved it on.
   */
  async tag(tag: Tag, manifest: Manifest): Promise<Digest | undefined> {
    await this.put(tag, manifest);
    return this.readBack(tag, manifest);
  }

  /** Reads what a tag leads to that was written; undefined where it leads nowhere. */
  async readBack(tag: Tag, manifest: Manifest): Promise<Digest | undefined> {
    const served = await this.resolve(tag, manifest.digest);
    if (served === manifest.digest) {
      return served;
    }
    // Registries that keep several copies may take a moment to agree.
    await delay((await this.requests.connection()).retries.firstDelay);
    return this.resolve(tag, manifest.digest);
  }

  /**
   * Removes a manifest ("Deleting Manifests"); some registries remove its tags with it. Answers false where the registry removes none,
   * or not for us.
   */
  remove(digest: Digest): Promise<boolean> {
    return removeReference(this.requests, { part: partOf(digest), purpose: 'could not remove a manifest' });
  }

  /** Writes a manifest under a tag, or under its own digest ("Pushing Manifests"). Throws `content-lacking` where the registry misses what it needs. */
  async put(reference: Tag | Digest, manifest: Manifest): Promise<void> {
    const response = await this.requests.ask({
      method: 'PUT',
      path: `manifests/${reference}`,
      headers: { 'content-type': manifest.mediaType },
      body: () => Buffer.from(manifest.bytes),
      access: 'write',
      expect: [201],
      purpose: isDigest(reference) ? 'could not write a manifest' : 'could not write a tag',
      part: partOf(reference),
    });
    if (manifest.subject !== undefined) {
      this.taken(response.headers['oci-subject'] !== undefined);
    }
    const stored = response.headers[digestHeader];
    if (typeof stored === 'string' && isDigest(stored) && digestLike(manifest.bytes, stored) !== stored) {
      throw new HodError('stored-otherwise', {
        what: 'the registry changed a manifest',
        object: `${this.requests.label}${partOf(reference)}`,
        why: `Hod sent ${manifest.digest}, and the registry says it stored ${stored}`,
        next: 'look for a proxy that rewrites requests',
      });
    }
  }
}

function partOf(reference: Tag | Digest): string {
  return `${isDigest(reference) ? '@' : ':'}${reference}`;
}

function reading(method: 'GET' | 'HEAD', reference: Tag | Digest, expect: readonly number[]): RepositoryRequest {
  return {
    method,
    path: `manifests/${reference}`,
    headers: { accept: acceptedManifestTypes.join(', ') },
    access: 'read',
    expect,
    purpose: 'could not read a manifest',
    part: partOf(reference),
  };
}

function mediaTypeOf(response: FetchedResponse): string | undefined {
  const [type] = String(response.headers['content-type'] ?? '').split(';');
  return type === undefined || type === '' ? undefined : type.trim();
}
