import { randomUUID } from 'node:crypto';
import { Readable } from 'node:stream';
import { HodError } from '../../core/errors';
import { isDigest, sha256, type Digest } from '../../core/oci/digest';
import { blobsOf, manifestSizeLimit, parseManifest, type Manifest } from '../../core/oci/manifest';
import { isTag } from '../../core/oci/tag';
import { answerEmpty } from '../http';
import { sendBlob } from './blobs';
import type { StoredRepository } from './catalogue';
import type { RegistryContents } from './contents';
import { readAll, RegistryError, type Exchange } from './exchange';
import type { SandboxRegistryOptions } from './options';

/** Manifests and tags: pulling, pushing and removing them. */
export class ManifestStore {
  constructor(
    private readonly contents: RegistryContents,
    private readonly options: SandboxRegistryOptions,
  ) {}

  async handle(exchange: Exchange): Promise<void> {
    const { method, name, rest, response } = exchange;
    if (method === 'PUT') {
      return this.put(exchange);
    }
    const repository = this.contents.repository(name);
    const digest = isDigest(rest) ? rest : repository.tags.get(rest);
    const mediaType = digest && repository.manifests.get(digest);
    if (digest === undefined || mediaType === undefined) {
      throw new RegistryError(404, 'MANIFEST_UNKNOWN', `there is no manifest ${rest}`);
    }
    if (method === 'DELETE') {
      const { removes } = this.options;
      if (removes === 'none' || removes === (isDigest(rest) ? 'tags' : 'manifests')) {
        throw new RegistryError(405, 'UNSUPPORTED', 'this registry removes none');
      }
      if (removes === 'pretended') {
        return answerEmpty(response, 202);
      }
      if (isDigest(rest)) {
        repository.manifests.delete(digest);
        [...repository.tags].filter(([, target]) => target === digest).forEach(([tag]) => repository.tags.delete(tag));
      } else {
        repository.tags.delete(rest);
      }
      this.contents.catalogue.save();
      return answerEmpty(response, 202);
    }
    await sendBlob(this.contents.blobs, exchange, digest, { 'content-type': mediaType });
  }

  private async put({ request, response, name, rest }: Exchange): Promise<void> {
    if (!isDigest(rest) && !isTag(rest)) {
      throw new RegistryError(400, 'TAG_INVALID', `${rest} is neither a tag nor a digest`);
    }
    const bytes = await readAll(request, manifestSizeLimit);
    const digest = isDigest(rest) ? rest : sha256(bytes);
    this.contents.requireRepository(name);
    const manifest = parsePushed(bytes, digest, request.headers['content-type']);
    const repository = this.contents.repositoryForWriting(name);
    if (this.options.trusting !== true) {
      await this.requireContent(manifest, repository);
    }
    const before = isDigest(rest) ? undefined : repository.tags.get(rest);
    if (before !== undefined && before !== digest && this.options.immutable?.test(rest) === true) {
      throw new RegistryError(409, 'DENIED', `the tag ${rest} is immutable`);
    }
    const upload = randomUUID();
    await this.contents.blobs.append(upload, Readable.from([bytes]));
    await this.contents.blobs.finish(upload, digest, true);
    repository.manifests.set(digest, manifest.mediaType);
    if (!isDigest(rest)) {
      repository.tags.set(rest, digest);
    }
    this.contents.catalogue.save();
    answerEmpty(response, 201, {
      location: `/v2/${name}/manifests/${digest}`,
      'docker-content-digest': digest,
      ...(manifest.subject === undefined || this.options.withoutReferrers === true
        ? {}
        : { 'oci-subject': manifest.subject.digest }),
    });
  }

  private async requireContent(manifest: Manifest, repository: StoredRepository): Promise<void> {
    if (manifest.kind === 'index') {
      const missing = manifest.manifests.find(({ digest }) => !repository.manifests.has(digest));
      if (missing !== undefined) {
        throw new RegistryError(404, 'MANIFEST_BLOB_UNKNOWN', `there is no manifest ${missing.digest}`);
      }
      return;
    }
    for (const { digest } of blobsOf(manifest)) {
      if (!repository.blobs.has(digest) || (await this.contents.blobs.size(digest)) === undefined) {
        throw new RegistryError(404, 'MANIFEST_BLOB_UNKNOWN', `there is no blob ${digest}`);
      }
    }
  }
}

function parsePushed(bytes: Uint8Array, digest: Digest, contentType: string | undefined): Manifest {
  try {
    return parseManifest(bytes, { label: 'the request', mediaType: contentType, digest });
  } catch (error) {
    if (error instanceof HodError) {
      throw new RegistryError(400, 'MANIFEST_INVALID', error.message);
    }
    throw error;
  }
}
