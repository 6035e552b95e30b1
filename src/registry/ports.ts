import type { ContentSource } from '../core/oci/content';
import type { Repository, RepositoryName } from '../core/oci/reference';
import type { Blobs } from './blobs';
import type { Manifests } from './manifests';
import type { Referrers } from './referrers';
import type { Tags } from './tags';

/** A repository that is read. Tests and the models have their own. */
export interface RepositoryReader extends ContentSource {
  readonly label: RepositoryName;
  readonly blobs: Pick<Blobs, 'has'>;
  readonly manifests: Pick<Manifests, 'get' | 'resolve'>;
  readonly tags: Pick<Tags, 'list'>;
}

/** A repository that tidying looks through, and removes content from. */
export interface RepositoryToTidy extends ContentSource {
  readonly label: RepositoryName;
  readonly manifests: Pick<Manifests, 'get' | 'resolve' | 'remove'>;
  readonly tags: Pick<Tags, 'list' | 'remove'>;
  readonly referrers: Pick<Referrers, 'referrersOf'>;
}

/** A repository that content is carried into, and whose tags are written. */
export interface RepositoryTarget extends RepositoryReader {
  readonly repository: Repository;
  /** How many requests were sent. */
  readonly requests: number;
  readonly blobs: Pick<Blobs, 'has' | 'mount' | 'check' | 'upload'>;
  readonly manifests: Pick<Manifests, 'get' | 'resolve' | 'put' | 'tag' | 'readBack'>;
  readonly tags: Pick<Tags, 'list' | 'remove'>;
  readonly referrers: Pick<Referrers, 'referrersOf' | 'listsByItself'>;
}
