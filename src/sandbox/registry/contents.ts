import type { BlobStore } from './blob-store';
import type { Catalogue, StoredRepository } from './catalogue';
import { RegistryError } from './exchange';

/** What a sandbox registry holds: its repositories, and the bytes below them. */
export class RegistryContents {
  constructor(
    readonly catalogue: Catalogue,
    readonly blobs: BlobStore,
    /** `strict`: repositories must be made before the first push. */
    private readonly options: { readonly strict?: boolean | undefined },
  ) {}

  /** A repository. Throws where there is none. */
  repository(name: string): StoredRepository {
    const known = this.catalogue.repositories.get(name);
    if (known === undefined) {
      throw new RegistryError(404, 'NAME_UNKNOWN', `there is no repository ${name}`);
    }
    return known;
  }

  /** A repository that is written to; made where it does not exist. */
  repositoryForWriting(name: string): StoredRepository {
    const repository = this.catalogue.repositories.get(name) ?? {
      blobs: new Set(),
      manifests: new Map(),
      tags: new Map(),
    };
    this.catalogue.repositories.set(name, repository);
    return repository;
  }

  /** Throws where a repository must have been made, and was not. */
  requireRepository(name: string): void {
    if (this.options.strict === true) {
      this.repository(name);
    }
  }
}
