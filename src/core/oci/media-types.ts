/**
 * Media types of the OCI image specification, and the older registry media types that it lists as
 * compatible (media-types.md, "Compatibility Matrix").
 */
export const mediaTypes = {
  index: 'application/vnd.oci.image.index.v1+json',
  manifest: 'application/vnd.oci.image.manifest.v1+json',
  config: 'application/vnd.oci.image.config.v1+json',
  layerTar: 'application/vnd.oci.image.layer.v1.tar',
  layerTarGzip: 'application/vnd.oci.image.layer.v1.tar+gzip',
  olderIndex: 'application/vnd.docker.distribution.manifest.list.v2+json',
  olderManifest: 'application/vnd.docker.distribution.manifest.v2+json',
  olderConfig: 'application/vnd.docker.container.image.v1+json',
} as const;

const indexTypes: readonly string[] = [mediaTypes.index, mediaTypes.olderIndex];
const imageTypes: readonly string[] = [mediaTypes.manifest, mediaTypes.olderManifest];

/** What a manifest of this media type is: an index of manifests, one image, or neither. */
export function manifestKind(mediaType: string): 'index' | 'image' | undefined {
  if (indexTypes.includes(mediaType)) {
    return 'index';
  }
  return imageTypes.includes(mediaType) ? 'image' : undefined;
}

/** Whether a config of this media type states a platform. */
export function isImageConfig(mediaType: string): boolean {
  return mediaType === mediaTypes.config || mediaType === mediaTypes.olderConfig;
}

/** The manifest media types to accept from a registry, best first. */
export const acceptedManifestTypes: readonly string[] = [...indexTypes, ...imageTypes];
