/** Annotation keys of the OCI image specification (annotations.md) that Hod reads and writes. */
export const annotationKeys = {
  revision: 'org.opencontainers.image.revision',
  version: 'org.opencontainers.image.version',
  created: 'org.opencontainers.image.created',
  baseName: 'org.opencontainers.image.base.name',
  baseDigest: 'org.opencontainers.image.base.digest',
  title: 'org.opencontainers.image.title',
  /** The name of an entry in the index.json of an image layout. */
  entryName: 'org.opencontainers.image.ref.name',
} as const;
