import { HodError } from '../core/errors';
import { annotationKeys } from '../core/oci/annotations';
import { kindOf } from '../core/oci/bundle';
import { runnableImages, sizeOf, verified, type ContentNode, type RunnableImage } from '../core/oci/content';
import type { Digest } from '../core/oci/digest';
import { looksLikeSecret } from '../core/oci/environment';
import { companionsOf } from '../core/oci/members';
import { parsePlatform, platformKey } from '../core/oci/platform';
import { typeOf } from '../core/oci/referrers';
import { formatRepository } from '../core/oci/reference';
import type { ShowResult } from '../results/show';
import { locate } from '../session/locate';
import { withoutProduct, type Session, type SessionOptions } from '../session/session';

/** What `show` is told. */
export interface ShowOptions extends SessionOptions {
  /** A reference, or a path of a build output. */
  reference: string;
  /** The platform that is shown in full. */
  platform?: string | undefined;
  /** Read every layer. */
  deep?: true | undefined;
}

type Layers = NonNullable<ShowResult['image']>['layers'];

/** What one image or index is: its digest, its platforms, how large they are, how they run. */
export async function show({ reference, platform, deep, ...options }: ShowOptions): Promise<ShowResult> {
  return withoutProduct(options, async (session) => {
    const node = await locate(session, reference);
    const { repository } = node.source;
    const { manifest } = node;
    const images = await runnableImages(node);
    const chosen = chooseImages(images, platform, reference);
    const unpacked = new Map<RunnableImage, Layers>();
    for (const image of chosen) {
      unpacked.set(image, await layersOf(image, deep === true));
    }
    const [only] = chosen;
    const name = repository === undefined ? null : formatRepository(repository);
    return {
      reference,
      repository: name,
      kind:
        manifest.kind === 'index'
          ? 'index'
          : images.length > 0
            ? 'image'
            : kindOf(manifest) === 'bundle'
              ? 'bundle'
              : 'artifact',
      digest: manifest.digest,
      mediaType: manifest.mediaType,
      size: sizeOf(node),
      pull: name === null ? null : `${name}@${manifest.digest}`,
      annotations: Object.fromEntries(manifest.annotations),
      shared: sharedBy(images),
      platforms: chosen.map((image) => describeImage(image, unpacked.get(image) ?? [])),
      attached: await attachedTo(session, node, images),
      image: only !== undefined && chosen.length === 1 ? describeRun(only, unpacked.get(only) ?? []) : null,
      deep: deep === true,
    };
  });
}

function chooseImages(
  images: readonly RunnableImage[],
  platform: string | undefined,
  reference: string,
): readonly RunnableImage[] {
  if (platform === undefined) {
    return images;
  }
  const wanted = platformKey(parsePlatform(platform));
  const found = images.filter((image) => platformKey(image.platform) === wanted);
  if (found.length === 0) {
    throw new HodError('platform-missing', {
      what: 'there is no image for this platform',
      object: `${wanted} in ${reference}`,
      why: `it has ${images.map((image) => platformKey(image.platform)).join(', ') || 'no image that runs somewhere'}`,
      next: 'name one of them, or leave --platform out',
    });
  }
  return found;
}

/** The layers of an image; where they are read, each must unpack to what its config says. Throws `content-corrupt`. */
async function layersOf({ manifest, node: { source }, config }: RunnableImage, deep: boolean): Promise<Layers> {
  if (!deep) {
    return manifest.layers.map(({ digest, size }) => ({ digest, size, unpacked: null }));
  }
  const [{ hashed }, { unpacked }] = await Promise.all([import('../archive/plain-layer'), import('../archive/unpack')]);
  const layers: Layers = [];
  for (const [at, layer] of manifest.layers.entries()) {
    const label = `layer ${at + 1} of ${source.label}, ${layer.digest}`;
    const diffId = config?.diffIds[at];
    if (diffId === undefined) {
      throw new HodError('content-corrupt', {
        what: 'a layer is not what the config of its image says',
        object: label,
        why: 'the config names nothing that it unpacks to',
        next: 'build the image again',
      });
    }
    const packed = verified(await source.openBlob(layer), layer, source.label);
    let size = 0;
    for await (const piece of hashed({ label, diffId, open: () => unpacked(packed, label) })) {
      size += piece.length;
    }
    layers.push({ digest: layer.digest, size: layer.size, unpacked: size });
  }
  return layers;
}

function describeImage(
  { node, manifest, platform, revision, version, created }: RunnableImage,
  layers: Layers,
): ShowResult['platforms'][number] {
  const [name, digest] = [annotationKeys.baseName, annotationKeys.baseDigest].map((key) =>
    manifest.annotations.get(key),
  );
  return {
    platform: platformKey(platform),
    digest: manifest.digest,
    size: sizeOf(node),
    unpacked: layers.every((layer) => layer.unpacked !== null)
      ? layers.reduce((sum, layer) => sum + (layer.unpacked ?? 0), 0)
      : null,
    layers: manifest.layers.length,
    created: created ?? null,
    revision: revision ?? null,
    version: version ?? null,
    base: name === undefined && digest === undefined ? null : { name: name ?? null, digest: digest ?? null },
  };
}

function describeRun({ config }: RunnableImage, layers: Layers): ShowResult['image'] {
  if (config === undefined) {
    return null;
  }
  const { runs, history, labels } = config;
  let at = 0;
  return {
    entrypoint: [...runs.entrypoint],
    command: [...runs.command],
    user: runs.user ?? null,
    workingFolder: runs.workingFolder ?? null,
    ports: [...runs.ports],
    volumes: [...runs.volumes],
    environment: runs.environment.map((text) => {
      const equals = text.indexOf('=');
      const [name, value] = [text.slice(0, equals), text.slice(equals + 1)];
      const masked = looksLikeSecret(name, value);
      return { name, value: masked ? '…' : value, masked };
    }),
    labels: Object.fromEntries(labels),
    history: history.map(({ created, by, comment, empty }) => {
      const layer = empty ? undefined : layers[at];
      at += empty ? 0 : 1;
      return { created: created ?? null, by: by ?? null, comment: comment ?? null, layer: layer ?? null };
    }),
    layers,
  };
}

/** Bytes of blobs that more than one image has. */
function sharedBy(images: readonly RunnableImage[]): number {
  const seen = new Map<Digest, { size: number; count: number }>();
  for (const { manifest } of images) {
    for (const { digest, size } of new Map(manifest.layers.map((layer) => [layer.digest, layer])).values()) {
      seen.set(digest, { size, count: (seen.get(digest)?.count ?? 0) + 1 });
    }
  }
  return [...seen.values()].filter(({ count }) => count > 1).reduce((sum, { size }) => sum + size, 0);
}

/** What accompanies an image: what an index lists beside it, and what refers to it. */
async function attachedTo(
  session: Session,
  node: ContentNode,
  images: readonly RunnableImage[],
): Promise<ShowResult['attached']> {
  const listed = companionsOf({ node, images }).map(({ descriptor, node: { manifest } }) => ({
    digest: descriptor.digest,
    type: typeOf(manifest),
    size: descriptor.size,
    about:
      [...(descriptor.annotations?.values() ?? [])].find((value) =>
        images.some(({ manifest: own }) => own.digest === value),
      ) ?? null,
  }));
  const { repository } = node.source;
  if (repository === undefined) {
    return listed;
  }
  const subjects = [...new Set([node.manifest.digest, ...images.map(({ manifest }) => manifest.digest)])];
  const referring = await Promise.all(
    subjects.map(async (about) =>
      (await session.client(repository).attachedTo(about)).map(
        ({ descriptor: { digest, artifactType, mediaType, size } }) => {
          return { digest, type: artifactType ?? mediaType, size, about };
        },
      ),
    ),
  );
  return [...listed, ...referring.flat()];
}
