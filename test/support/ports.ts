import type { Tag } from '../../src/core/oci/tag';
import { formatRepository, parseRepository } from '../../src/core/oci/reference';
import type { RepositoryTarget } from '../../src/registry/ports';

/** A repository of which nothing may be asked, but what a test replaces. */
export function unaskedTarget(name: string): RepositoryTarget {
  const repository = parseRepository(name);
  const never = (): Promise<never> => Promise.reject(new Error(`nothing is asked of ${name}`));
  const neverAny = async function* (): AsyncGenerator<Tag> {
    yield await never();
  };
  return {
    repository,
    label: formatRepository(repository),
    requests: 0,
    readManifest: never,
    openBlob: never,
    blobs: { has: never, mount: never, check: never, upload: never },
    manifests: { get: never, resolve: never, put: never, tag: never, readBack: never },
    tags: { list: neverAny, remove: never },
    referrers: { referrersOf: never, listsByItself: never },
  };
}
