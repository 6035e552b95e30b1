import * as z from 'zod';
import { HodError } from '../errors';
import { issuesToText, mapOf, readJson } from '../json';
import { descriptorSchema, mediaTypeSchema, type Descriptor } from './descriptor';
import { matchesDigest, sha256, type Digest } from './digest';
import { manifestKind, mediaTypes } from './media-types';

/**
 * Registries must take a manifest of this size and may refuse a larger one (distribution specification, "Pushing Manifests").
 * @limit a manifest, an index or a config | bytes | exit 7
 */
export const manifestSizeLimit = 4 * 1024 * 1024;

interface ParsedManifest {
  /** The document exactly as it was read. This, and never a copy made from the parsed form, is sent on. */
  readonly bytes: Uint8Array;
  readonly digest: Digest;
  readonly mediaType: string;
  readonly annotations: ReadonlyMap<string, string>;
  readonly artifactType?: string | undefined;
  /** The manifest that this one refers to, if it is a referrer. */
  readonly subject?: Descriptor | undefined;
}

/** One image: a config and its layers (OCI image specification, manifest.md). */
export interface ImageManifest extends ParsedManifest {
  readonly kind: 'image';
  readonly config: Descriptor;
  readonly layers: readonly Descriptor[];
}

/** An index: manifests, usually one for each platform (OCI image specification, image-index.md). */
export interface IndexManifest extends ParsedManifest {
  readonly kind: 'index';
  readonly manifests: readonly Descriptor[];
}

/** A parsed document beside the bytes that it was parsed from. */
export type Manifest = ImageManifest | IndexManifest;

const common = {
  schemaVersion: z.literal(2),
  mediaType: mediaTypeSchema.optional(),
  artifactType: mediaTypeSchema.optional(),
  annotations: mapOf(z.string()).nullish(),
  subject: descriptorSchema.nullish(),
};
// A document that could be read both as an image and as an index is refused: two readers would
// disagree about what was promoted.
const imageSchema = z.object({
  ...common,
  config: descriptorSchema,
  layers: z.array(descriptorSchema).nullish(),
  manifests: z.undefined().optional(),
});
const indexSchema = z.object({
  ...common,
  manifests: z.array(descriptorSchema).nullable(),
  config: z.undefined().optional(),
  layers: z.undefined().optional(),
});

/** What is known about a manifest before it is read. */
export interface ExpectedManifest {
  /** How people name it, for messages. */
  label: string;
  mediaType?: string | undefined;
  digest?: Digest | undefined;
  size?: number | undefined;
}

/**
 * Parses a manifest and keeps its bytes.
 *
 * Throws a `corrupt` error if the bytes are not those that were promised, are larger than
 * {@link manifestSizeLimit}, or are not a manifest of the promised media type.
 */
export function parseManifest(bytes: Uint8Array, expected: ExpectedManifest): Manifest {
  const corrupt = (why: string): HodError =>
    new HodError('manifest-corrupt', {
      what: 'this manifest cannot be trusted',
      object: expected.label,
      why,
      next: 'build or push it again from its source; nothing was tagged',
    });
  if (expected.size !== undefined && bytes.length !== expected.size) {
    throw corrupt(`it has ${bytes.length} bytes and its descriptor promises ${expected.size}`);
  }
  if (bytes.length > manifestSizeLimit) {
    throw corrupt(`it has ${bytes.length} bytes, more than the ${manifestSizeLimit} that registries take`);
  }
  if (expected.digest !== undefined && !matchesDigest(bytes, expected.digest)) {
    throw corrupt(`its bytes do not have the digest ${expected.digest}`);
  }
  const { object: document, problem } = readJson(bytes);
  if (document === undefined) {
    throw corrupt(problem);
  }
  const own = typeof document.mediaType === 'string' ? document.mediaType : undefined;
  if (own !== undefined && expected.mediaType !== undefined && own !== expected.mediaType) {
    throw corrupt(`it was promised as ${expected.mediaType} and calls itself ${own}`);
  }
  const mediaType = own ?? expected.mediaType ?? ('manifests' in document ? mediaTypes.index : mediaTypes.manifest);
  const digest = expected.digest ?? sha256(bytes);
  const kind = manifestKind(mediaType);
  if (kind === undefined) {
    throw corrupt(`its media type is ${mediaType}, which is neither an image nor an index`);
  }
  const parsed = (kind === 'index' ? indexSchema : imageSchema).safeParse(document);
  if (!parsed.success) {
    throw corrupt(issuesToText(parsed.error));
  }
  const { annotations, artifactType, subject } = parsed.data;
  const base = {
    bytes,
    digest,
    mediaType,
    annotations: annotations ?? new Map<string, string>(),
    artifactType,
    subject: subject ?? undefined,
  };
  return parsed.data.config === undefined
    ? { kind: 'index', ...base, manifests: parsed.data.manifests ?? [] }
    : { kind: 'image', ...base, config: parsed.data.config, layers: parsed.data.layers ?? [] };
}

/** The manifest of an image that has none of its own. The same descriptors give the same bytes. */
export function imageManifest(config: Descriptor, layers: readonly Descriptor[]): Manifest {
  const document = { schemaVersion: 2, mediaType: mediaTypes.manifest, config, layers };
  const bytes = new TextEncoder().encode(JSON.stringify(document));
  return parseManifest(bytes, { label: 'the manifest of an image', mediaType: mediaTypes.manifest });
}

/** The descriptor of a parsed manifest. */
export function describeManifest(manifest: Manifest): Descriptor {
  return { mediaType: manifest.mediaType, digest: manifest.digest, size: manifest.bytes.length };
}

/** The blobs that one image manifest needs: its config and its layers, each once. */
export function blobsOf(manifest: Manifest): Descriptor[] {
  if (manifest.kind === 'index') {
    return [];
  }
  const seen = new Map<Digest, Descriptor>();
  for (const blob of [manifest.config, ...manifest.layers]) {
    seen.set(blob.digest, blob);
  }
  return [...seen.values()];
}
