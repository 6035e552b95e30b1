import { HodError } from '../core/errors';
import { contentOf, readContent } from '../core/oci/content';
import type { Digest } from '../core/oci/digest';
import { describeManifest } from '../core/oci/manifest';
import type { RepositoryClient } from '../registry/repository';
import { settleAll } from '../system/promises';

/** A repository whose content can be looked for. */
export type PresenceSource = Pick<RepositoryClient, 'label' | 'readManifest' | 'openBlob'> & {
  readonly manifests: Pick<RepositoryClient['manifests'], 'get'>;
  readonly blobs: Pick<RepositoryClient['blobs'], 'has'>;
};

/** Checks that a manifest and everything below it is in a repository. Throws `content-gone`. */
export async function checkPresent(source: PresenceSource, digest: Digest): Promise<void> {
  const manifest = await source.manifests.get(digest);
  if (manifest === undefined) {
    throw gone(source, [digest]);
  }
  const { blobs } = contentOf(await readContent(source, describeManifest(manifest)));
  const missing = await settleAll(blobs.map(async (blob) => ((await source.blobs.has(blob)) ? [] : [blob.digest])));
  if (missing.flat().length > 0) {
    throw gone(source, missing.flat());
  }
}

/** A repository to which the right to write is shown. */
export type WitnessTarget = Pick<RepositoryClient, 'label'> & {
  readonly manifests: Pick<RepositoryClient['manifests'], 'get' | 'put'>;
};

/**
 * Writes a manifest once more that is there: who says what an environment serves must be able to write to it, and finds out
 * before that is recorded.
 *
 * @throws `content-gone` where it is not there, and what the registry says where it may not be written.
 */
export async function witnessWrite(target: WitnessTarget, digest: Digest): Promise<void> {
  const manifest = await target.manifests.get(digest);
  if (manifest === undefined) {
    throw gone(target, [digest]);
  }
  await target.manifests.put(digest, manifest);
}

function gone({ label }: Pick<PresenceSource, 'label'>, digests: readonly Digest[]): HodError {
  return new HodError('content-gone', {
    what: 'what is to be served again is not whole any more',
    object: digests.map((digest) => `${label}@${digest}`),
    why: 'the registry does not have it: somebody removed it, or its clean-up did',
    next: 'go back to another release (--to), or publish and promote a new one; nothing was changed',
  });
}
