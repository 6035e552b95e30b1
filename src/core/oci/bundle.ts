import { sha256, type Digest } from './digest';
import { parseManifest, type Manifest } from './manifest';
import { annotationKeys } from './annotations';
import { isImageConfig, mediaTypes } from './media-types';

/** The artifact type of a bundle: files that ship with images. */
const bundleType = 'application/vnd.hod.bundle.v1';

/** The config of an artifact that has none (OCI image specification, manifest.md, "Guidance for an Empty Descriptor"). */
export const emptyConfig = { bytes: new TextEncoder().encode('{}'), mediaType: 'application/vnd.oci.empty.v1+json' };

/**
 * The manifest of a bundle: an artifact with one layer, a .tar of its files. The same files give
 * the same bytes, whenever and wherever.
 */
export function bundleManifest(name: string, archive: { digest: Digest; size: number }): Manifest {
  const layer = {
    mediaType: mediaTypes.layerTar,
    ...archive,
    annotations: { [annotationKeys.title]: `${name}.tar` },
  };
  const { bytes, mediaType } = emptyConfig;
  const document = {
    schemaVersion: 2,
    mediaType: mediaTypes.manifest,
    artifactType: bundleType,
    config: { mediaType, digest: sha256(bytes), size: bytes.length },
    layers: [layer],
  };
  const text = new TextEncoder().encode(JSON.stringify(document));
  return parseManifest(text, { label: `the bundle ${name}`, mediaType: mediaTypes.manifest });
}

/** What content can be: an image or an index of images, a bundle of files, or an artifact of another type. */
export const contentKinds = ['image', 'bundle', 'artifact'] as const;
export type ContentKind = (typeof contentKinds)[number];

/** What a manifest is of. What has the config of an image is an image, whatever else it says. */
export function kindOf(manifest: Manifest): ContentKind {
  if (manifest.artifactType === bundleType) {
    return 'bundle';
  }
  const isImage =
    manifest.kind === 'index' ? manifest.artifactType === undefined : isImageConfig(manifest.config.mediaType);
  return isImage ? 'image' : 'artifact';
}
