import type { Descriptor } from '../oci/descriptor';
import { digitsOf, type Digest } from '../oci/digest';
import { parseManifest, type Manifest } from '../oci/manifest';
import { mediaTypes } from '../oci/media-types';
import { isTag, type Tag } from '../oci/tag';

/** The tag that protects everything that is staged in a repository whose registry removes no tags. */
export const sharedProtectionTag = tagOf('hod-staged');

const ownPrefix = 'hod-staged-';

/** Whether a tag protects staged parts. */
export function isProtectionTag(tag: string): boolean {
  return tag === sharedProtectionTag || tag.startsWith(ownPrefix);
}

/** The tag that protects one staged part from garbage collection until it is published. */
export function protectionTag(digest: Digest): Tag {
  return tagOf(`${ownPrefix}${digitsOf(digest).slice(0, 24)}`);
}

/**
 * Makes the index that {@link sharedProtectionTag} points to: it lists what is staged, and nothing runs it (OCI image
 * specification, image-index.md). The same parts give the same bytes.
 */
export function protectionIndex(parts: readonly Descriptor[], label: string): Manifest {
  const index = {
    schemaVersion: 2,
    mediaType: mediaTypes.index,
    artifactType: 'application/vnd.hod.staged.v1+json',
    manifests: parts.map(({ mediaType, digest, size }) => ({ mediaType, digest, size })),
  };
  return parseManifest(new TextEncoder().encode(JSON.stringify(index)), { label });
}

function tagOf(name: string): Tag {
  if (!isTag(name)) {
    throw new Error(`${name} is not a tag`);
  }
  return name;
}
