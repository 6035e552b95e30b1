import { onePiece } from '../bytes';
import type { ContentNode } from '../oci/content';
import { sha256 } from '../oci/digest';
import { describeManifest, parseManifest, type Manifest } from '../oci/manifest';
import { mediaTypes } from '../oci/media-types';

/**
 * Makes the artifact that holds a document; with a subject, it refers to that manifest (OCI image specification, manifest.md,
 * "subject"). Every run makes the same bytes of the same document and manifest.
 *
 * @param type The artifact type, and the media type of the document.
 */
export function documentArtifact(
  type: string,
  document: object,
  subject: Manifest | undefined,
  label: string,
): ContentNode {
  return bytesArtifact(type, new TextEncoder().encode(JSON.stringify(document)), subject, label);
}

/** Makes the artifact that holds some bytes, as {@link documentArtifact} does. */
export function bytesArtifact(
  type: string,
  bytes: Uint8Array,
  subject: Manifest | undefined,
  label: string,
): ContentNode {
  const blob = { mediaType: type, digest: sha256(bytes), size: bytes.length };
  const artifact = {
    schemaVersion: 2,
    mediaType: mediaTypes.manifest,
    artifactType: type,
    config: blob,
    // Registries expect a layer (OCI image specification, manifest.md, "layers"): the one blob is both.
    layers: [blob],
    ...(subject === undefined ? {} : { subject: describeManifest(subject) }),
  };
  const manifest = parseManifest(new TextEncoder().encode(JSON.stringify(artifact)), { label });
  const source = {
    label,
    readManifest: () => Promise.resolve(manifest.bytes),
    openBlob: (_: unknown, from = 0) => Promise.resolve(onePiece(bytes.subarray(from))),
  };
  return { manifest, source, children: [] };
}
