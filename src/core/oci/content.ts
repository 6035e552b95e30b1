import { allBytes } from '../bytes';
import { HodError } from '../errors';
import { parseConfig } from './config';
import { annotationKeys } from './annotations';
import type { Descriptor } from './descriptor';
import { digestHasher, type Digest } from './digest';
import { blobsOf, manifestSizeLimit, parseManifest, type ImageManifest, type Manifest } from './manifest';
import { isImageConfig } from './media-types';
import { formatPlatform, isRunnable, type Platform } from './platform';
import type { Repository } from './reference';

/** A place that content is read from: an image layout, or a repository. */
export interface ContentSource {
  /** How people name this place, for messages. */
  readonly label: string;
  /** The repository, where the place is one: content can then be mounted within its registry. */
  readonly repository?: Repository;
  /** The bytes of a manifest, unchecked. Throws `missing` where there is none. */
  readManifest(descriptor: Descriptor): Promise<Uint8Array>;
  /** The bytes of a blob, unchecked, as they arrive. Throws `missing` where there is none. */
  openBlob(descriptor: Descriptor): Promise<AsyncIterable<Uint8Array>>;
  /** Throws `missing` or `corrupt` where it is cheap to know that a blob is not whole. */
  checkBlob?(descriptor: Descriptor): Promise<void>;
}

/** A manifest, where its content is read from, and the manifests below it. */
export interface ContentNode {
  readonly manifest: Manifest;
  readonly source: ContentSource;
  readonly children: readonly ContentNode[];
}

// Deeper nesting than any builder writes: it bounds the work that a small document can ask for.
const depthLimit = 8;

/**
 * Reads a manifest and all manifests below it, each checked against its descriptor, and checks that
 * their blobs are there, as far as the source tells cheaply.
 */
export async function readContent(source: ContentSource, root: Descriptor, depth = 0): Promise<ContentNode> {
  const { mediaType, digest, size } = root;
  const label = `${source.label}@${digest}`;
  if (depth > depthLimit) {
    throw new HodError('nested-too-deeply', {
      what: 'an index is nested too deeply',
      object: label,
      why: `Hod follows indexes within indexes to a depth of ${depthLimit}`,
      next: 'build the image again; nothing was tagged',
    });
  }
  if (size > manifestSizeLimit) {
    throw new HodError('manifest-corrupt', {
      what: 'this manifest is too large',
      object: label,
      why: `its descriptor says ${size} bytes; registries take ${manifestSizeLimit}`,
      next: 'build the image again; nothing was tagged',
    });
  }
  const manifest = parseManifest(await source.readManifest(root), { label, mediaType, digest, size });
  if (manifest.kind === 'image') {
    for (const blob of blobsOf(manifest)) {
      await source.checkBlob?.(blob);
    }
    return { manifest, source, children: [] };
  }
  const children = await Promise.all(manifest.manifests.map((child) => readContent(source, child, depth + 1)));
  return { manifest, source, children };
}

/**
 * Passes bytes on while it hashes them, and holds the last piece back until the whole is known to
 * be what the descriptor promises: a reader that counts on the promised size never completes with
 * other content. Throws `corrupt`.
 */
export async function* verified(
  bytes: AsyncIterable<Uint8Array>,
  descriptor: Descriptor,
  label: string,
): AsyncGenerator<Uint8Array> {
  const hasher = digestHasher(descriptor.digest);
  let size = 0;
  let held: Uint8Array | undefined;
  const corrupt = (why: string): HodError =>
    new HodError('content-corrupt', {
      what: 'this content is not what its digest says',
      object: `${descriptor.digest} in ${label}`,
      why,
      next: 'build it again, or restore it; nothing was tagged',
    });
  for await (const piece of bytes) {
    size += piece.length;
    if (size > descriptor.size) {
      throw corrupt(`it has more than the ${descriptor.size} bytes that its descriptor promises`);
    }
    hasher.update(piece);
    if (held !== undefined) {
      yield held;
    }
    held = piece;
  }
  if (size !== descriptor.size) {
    throw corrupt(`it has ${size} bytes and its descriptor promises ${descriptor.size}`);
  }
  const digest = hasher.digest();
  if (digest !== descriptor.digest) {
    throw corrupt(`its bytes have the digest ${digest}`);
  }
  if (held !== undefined) {
    yield held;
  }
}

/** What a single image says of itself: where it runs, and what it was built from. */
export interface ImageClaims {
  platform: Platform | undefined;
  /** The commit that it says it was built from. */
  revision: string | undefined;
  /** The version that it says it is. */
  version: string | undefined;
}

/** Reads an image's config for its platform and revision. Artifacts without an image config have no platform. */
export async function readImageClaims(manifest: ImageManifest, source: ContentSource): Promise<ImageClaims> {
  const revision = manifest.annotations[annotationKeys.revision];
  const version = manifest.annotations[annotationKeys.version];
  if (!isImageConfig(manifest.config.mediaType)) {
    return { platform: undefined, revision, version };
  }
  const config = parseConfig(await readSmallBlob(source, manifest.config), `${source.label}@${manifest.config.digest}`);
  return {
    platform: config.platform,
    revision: revision ?? config.labels[annotationKeys.revision],
    version: version ?? config.labels[annotationKeys.version],
  };
}

async function readSmallBlob(source: ContentSource, descriptor: Descriptor): Promise<Uint8Array> {
  if (descriptor.size > manifestSizeLimit) {
    throw new HodError('image-config-corrupt', {
      what: 'this image config is too large to be one',
      object: `${descriptor.digest} in ${source.label}`,
      why: `its descriptor says ${descriptor.size} bytes`,
      next: 'build the image again; nothing was tagged',
    });
  }
  return allBytes(verified(await source.openBlob(descriptor), descriptor, source.label));
}

/** An image that runs somewhere, found at or below a manifest. */
export interface RunnableImage {
  readonly node: ContentNode;
  readonly manifest: ImageManifest;
  readonly platform: Platform;
  readonly revision: string | undefined;
  readonly version: string | undefined;
}

/** Every image at or below a node that runs somewhere, in the order of the index. */
export async function runnableImages(node: ContentNode): Promise<RunnableImage[]> {
  if (node.manifest.kind === 'index') {
    const found = await Promise.all(node.children.map(runnableImages));
    return found.flat();
  }
  const { platform, ...claims } = await readImageClaims(node.manifest, node.source);
  return platform !== undefined && isRunnable(platform) ? [{ node, manifest: node.manifest, platform, ...claims }] : [];
}

/** `os/arch[/variant]` of every image at or below a node. */
export async function platformsOf(node: ContentNode): Promise<string[]> {
  return (await runnableImages(node)).map(({ platform }) => formatPlatform(platform));
}

/** Everything at and below a node, each digest once. */
export function contentOf(node: ContentNode): { manifests: Manifest[]; blobs: Descriptor[] } {
  const manifests = new Map<Digest, Manifest>();
  const blobs = new Map<Digest, Descriptor>();
  const visit = ({ manifest, children }: ContentNode): void => {
    manifests.set(manifest.digest, manifest);
    blobsOf(manifest).forEach((blob) => blobs.set(blob.digest, blob));
    children.forEach(visit);
  };
  visit(node);
  return { manifests: [...manifests.values()], blobs: [...blobs.values()] };
}

/** Bytes of everything at and below a node, each digest once. */
export function sizeOf(node: ContentNode): number {
  const { manifests, blobs } = contentOf(node);
  return [...manifests.map(({ bytes }) => bytes.length), ...blobs.map(({ size }) => size)].reduce((a, b) => a + b, 0);
}
