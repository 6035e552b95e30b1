import pLimit from 'p-limit';
import { allBytes } from '../bytes';
import { HodError } from '../errors';
import { parseConfig, type ImageConfig } from './config';
import { annotationKeys } from './annotations';
import type { Descriptor } from './descriptor';
import { digestHasher, type Digest, type DigestHasher } from './digest';
import {
  blobsOf,
  describeManifest,
  manifestSizeLimit,
  parseManifest,
  type ImageManifest,
  type Manifest,
} from './manifest';
import { isImageConfig, manifestKind } from './media-types';
import { formatPlatform, isRunnable, type Platform } from './platform';
import type { Repository } from './reference';
import type { ListedReferrer } from './referrers';

/** A place that content is read from: an image layout, or a repository. */
export interface ContentSource {
  /** How people name this place, for messages. */
  readonly label: string;
  /** The repository, where the place is one: content can then be mounted within its registry. */
  readonly repository?: Repository;
  /** The bytes of a manifest, unchecked. Throws `missing` where there is none. */
  readManifest(descriptor: Descriptor): Promise<Uint8Array>;
  /**
   * The bytes of a blob from a byte on, unchecked, as they arrive. Throws `missing` where there is none.
   *
   * A piece stays as it is until the next but one is asked for: whoever keeps one for longer copies it.
   */
  openBlob(descriptor: Descriptor, from?: number): Promise<AsyncIterable<Uint8Array>>;
  /** A layer as it was before it was compressed, checked while it is read; undefined where there is only what was. */
  openPlain?(descriptor: Descriptor): AsyncIterable<Uint8Array> | undefined;
  /** The referrers of a manifest here: they name it as their subject, or stand under a tag that is made of its digest. */
  referrersOf?(digest: Digest): Promise<readonly ListedReferrer[]>;
  /** Throws `missing` or `corrupt` where it is cheap to know that a blob is not whole. */
  checkBlob?(descriptor: Descriptor): Promise<void>;
}

/** A manifest, where its content is read from, and the manifests below it. */
export interface ContentNode {
  readonly manifest: Manifest;
  readonly source: ContentSource;
  readonly children: readonly ContentNode[];
}

/**
 * Builders write no deeper nesting; a small document must not ask for unbounded work.
 * @limit indexes within indexes | levels | `nested-too-deeply`
 */
const depthLimit = 8;
/**
 * Builders write no larger index; a small document must not ask for unbounded work.
 * @limit manifests below one index | manifests | `too-many-manifests`
 */
const manifestLimit = 1_000;
/** How many manifests are read at once. */
const readAtOnce = 16;

/**
 * Reads a manifest and all manifests below it, each once and checked against its descriptor, and
 * checks that their blobs are there, as far as the source tells cheaply. What is named several
 * times is one node with several parents.
 */
export function readContent(source: ContentSource, root: Descriptor): Promise<ContentNode> {
  return new ContentReader(source).read(root, 0);
}

/** Reads all manifests below one that was read already, as {@link readContent} does. */
export function readContentBelow(source: ContentSource, root: Manifest): Promise<ContentNode> {
  return new ContentReader(source).readBelow(root, 0);
}

/** Reads one manifest, checked against its descriptor. Throws `missing` or `corrupt`. */
export async function readManifest(source: ContentSource, descriptor: Descriptor): Promise<Manifest> {
  const { mediaType, digest, size } = descriptor;
  const label = `${source.label}@${digest}`;
  return parseManifest(await source.readManifest(descriptor), { label, mediaType, digest, size });
}

class ContentReader {
  private readonly nodes = new Map<Digest, Promise<ContentNode>>();
  private readonly checked = new Map<string, Promise<void>>();
  private readonly turn = pLimit(readAtOnce);

  constructor(private readonly source: ContentSource) {}

  async read(descriptor: Descriptor, depth: number): Promise<ContentNode> {
    const known = this.nodes.get(descriptor.digest);
    if (known === undefined) {
      const reading = this.readNode(descriptor, depth);
      this.nodes.set(descriptor.digest, reading);
      return reading;
    }
    const node = await known;
    const { mediaType, size } = describeManifest(node.manifest);
    if (descriptor.size !== size || descriptor.mediaType !== mediaType) {
      throw new HodError('manifest-corrupt', {
        what: 'this manifest cannot be trusted',
        object: this.label(descriptor.digest),
        why: `one index names it as ${mediaType} of ${size} bytes, another as ${descriptor.mediaType} of ${descriptor.size}`,
        next: 'build the image again; nothing was tagged',
      });
    }
    return node;
  }

  private async readNode(descriptor: Descriptor, depth: number): Promise<ContentNode> {
    this.refuseExcess(descriptor, depth);
    return this.readBelow(await this.turn(() => readManifest(this.source, descriptor)), depth);
  }

  async readBelow(manifest: Manifest, depth: number): Promise<ContentNode> {
    const { source } = this;
    if (manifest.kind === 'image') {
      for (const blob of blobsOf(manifest)) {
        await this.check(blob);
      }
      return { manifest, source, children: [] };
    }
    const children = await Promise.all(manifest.manifests.map((child) => this.read(child, depth + 1)));
    return { manifest, source, children };
  }

  private check(blob: Descriptor): Promise<void> {
    const key = `${blob.digest} ${blob.size}`;
    const known = this.checked.get(key) ?? this.turn(async () => this.source.checkBlob?.(blob));
    this.checked.set(key, known);
    return known;
  }

  private refuseExcess({ digest, size }: Descriptor, depth: number): void {
    const next = 'build the image again; nothing was tagged';
    const object = this.label(digest);
    if (depth > depthLimit) {
      throw new HodError('nested-too-deeply', {
        what: 'an index is nested too deeply',
        object,
        why: `Hod follows indexes within indexes to a depth of ${depthLimit}`,
        next,
      });
    }
    if (this.nodes.size >= manifestLimit) {
      throw new HodError('too-many-manifests', {
        what: 'an index leads to too many manifests',
        object,
        why: `Hod reads up to ${manifestLimit} below one index`,
        next,
      });
    }
    if (size > manifestSizeLimit) {
      throw new HodError('manifest-corrupt', {
        what: 'this manifest is too large',
        object,
        why: `its descriptor says ${size} bytes; registries take ${manifestSizeLimit}`,
        next,
      });
    }
  }

  private label(digest: Digest): string {
    return `${this.source.label}@${digest}`;
  }
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
  hasher: DigestHasher = digestHasher(descriptor.digest),
): AsyncGenerator<Uint8Array> {
  let last: Uint8Array | undefined;
  for await (const piece of measured(bytes, descriptor, label)) {
    await hasher.update(piece);
    if (last !== undefined) {
      yield last;
    }
    last = piece;
  }
  const digest = await hasher.digest();
  if (digest !== descriptor.digest) {
    throw corruptContent(descriptor, label, `its bytes have the digest ${digest}`);
  }
  if (last !== undefined) {
    yield last;
  }
}

/** Passes bytes on from a byte on, and checks that they are as many as the descriptor promises. Throws `corrupt`. */
export async function* measured(
  bytes: AsyncIterable<Uint8Array>,
  descriptor: Descriptor,
  label: string,
  from = 0,
): AsyncGenerator<Uint8Array> {
  let size = from;
  for await (const piece of bytes) {
    size += piece.length;
    if (size > descriptor.size) {
      throw corruptContent(
        descriptor,
        label,
        `it has more than the ${descriptor.size} bytes that its descriptor promises`,
      );
    }
    yield piece;
  }
  if (size !== descriptor.size) {
    throw corruptContent(descriptor, label, `it has ${size} bytes and its descriptor promises ${descriptor.size}`);
  }
}

function corruptContent({ digest }: Descriptor, label: string, why: string): HodError {
  return new HodError('content-corrupt', {
    what: 'this content is not what its digest says',
    object: `${digest} in ${label}`,
    why,
    next: 'build it again, or restore it; nothing was tagged',
  });
}

/** An image of an index, and the platform that it runs on as `os/arch[/variant]`. */
export interface PlatformImage {
  readonly platform: string;
  readonly digest: Digest;
}

/**
 * The image for each platform, as an index names them; of one image, itself for the platform that it runs on.
 *
 * @param platforms `os/arch[/variant]` of everything in it that runs.
 */
export function imagesByPlatform(manifest: Manifest, platforms: readonly string[]): PlatformImage[] {
  if (manifest.kind === 'image') {
    return platforms.map((platform) => ({ platform, digest: manifest.digest }));
  }
  return manifest.manifests.flatMap(({ platform, digest, mediaType }) =>
    platform !== undefined && isRunnable(platform) && manifestKind(mediaType) === 'image'
      ? [{ platform: formatPlatform(platform), digest }]
      : [],
  );
}

/** What a single image says of itself: where it runs, and what it was built from. */
export interface ImageClaims {
  platform: Platform | undefined;
  /** The commit that it says it was built from. */
  revision: string | undefined;
  /** The version that it says it is. */
  version: string | undefined;
  /** When it says that it was made. */
  created: string | undefined;
  /** Its config; undefined for what has none of its kind. */
  config: ImageConfig | undefined;
}

/** Reads an image's config for its platform and revision. Artifacts without an image config have no platform. */
export async function readImageClaims(manifest: ImageManifest, source: ContentSource): Promise<ImageClaims> {
  const revision = manifest.annotations.get(annotationKeys.revision);
  const version = manifest.annotations.get(annotationKeys.version);
  if (!isImageConfig(manifest.config.mediaType)) {
    return { platform: undefined, revision, version, created: undefined, config: undefined };
  }
  const config = parseConfig(await readSmallBlob(source, manifest.config), `${source.label}@${manifest.config.digest}`);
  return {
    platform: config.platform,
    revision: revision ?? config.labels.get(annotationKeys.revision),
    version: version ?? config.labels.get(annotationKeys.version),
    created: config.created,
    config,
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
  readonly created: string | undefined;
  readonly config: ImageConfig | undefined;
}

/** Every image at or below a node that runs somewhere, each once, in the order of the index. */
export async function runnableImages(node: ContentNode): Promise<RunnableImage[]> {
  const turn = pLimit(readAtOnce);
  const images = nodesOf(node).flatMap(({ manifest, ...rest }) =>
    manifest.kind === 'image' ? [{ ...rest, manifest }] : [],
  );
  const found = await Promise.all(
    images.map((image) =>
      turn(async (): Promise<RunnableImage[]> => {
        const { platform, ...claims } = await readImageClaims(image.manifest, image.source);
        const runs = platform !== undefined && isRunnable(platform);
        return runs ? [{ node: image, manifest: image.manifest, platform, ...claims }] : [];
      }),
    ),
  );
  return found.flat();
}

/** `os/arch[/variant]` of every image at or below a node. */
export async function platformsOf(node: ContentNode): Promise<string[]> {
  return (await runnableImages(node)).map(({ platform }) => formatPlatform(platform));
}

/** A node and all below it, each digest once, in the order of the index. */
export function nodesOf(root: ContentNode): ContentNode[] {
  const seen = new Map<Digest, ContentNode>();
  const visit = (node: ContentNode): void => {
    if (!seen.has(node.manifest.digest)) {
      seen.set(node.manifest.digest, node);
      node.children.forEach(visit);
    }
  };
  visit(root);
  return [...seen.values()];
}

/** Everything at and below a node, each digest once. */
export function contentOf(node: ContentNode): { manifests: Manifest[]; blobs: Descriptor[] } {
  const manifests = nodesOf(node).map(({ manifest }) => manifest);
  const blobs = new Map(manifests.flatMap(blobsOf).map((blob): [Digest, Descriptor] => [blob.digest, blob]));
  return { manifests, blobs: [...blobs.values()] };
}

/** Bytes of everything at and below a node, each digest once. */
export function sizeOf(node: ContentNode): number {
  const { manifests, blobs } = contentOf(node);
  return [...manifests.map(({ bytes }) => bytes.length), ...blobs.map(({ size }) => size)].reduce((a, b) => a + b, 0);
}

/** The names of the annotations that a manifest has, or that every image below it has that runs somewhere. */
export function annotationNames(node: ContentNode): string[] {
  return [...new Set([...node.manifest.annotations.keys(), ...commonTo(childrenThatRun(node).map(annotationNames))])];
}

/** What an index lists for a platform, or for none that it names. */
export function childrenThatRun({ manifest, children }: ContentNode): ContentNode[] {
  const below = manifest.kind === 'index' ? manifest.manifests : [];
  const runs = new Set(
    below.filter(({ platform }) => platform === undefined || isRunnable(platform)).map(({ digest }) => digest),
  );
  return children.filter((child) => runs.has(child.manifest.digest));
}

/** The texts that stand in all of some lists. */
export function commonTo([first = [], ...others]: readonly (readonly string[])[]): string[] {
  return first.filter((text) => others.every((texts) => texts.includes(text)));
}
