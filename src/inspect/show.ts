import { HodError } from '../core/errors';
import { annotationKeys } from '../core/oci/annotations';
import { kindOf } from '../core/oci/bundle';
import type { HistoryEntry, Runs } from '../core/oci/config';
import {
  readContent,
  runnableImages,
  sizeOf,
  verified,
  type ContentNode,
  type RunnableImage,
} from '../core/oci/content';
import type { Digest } from '../core/oci/digest';
import { looksLikeSecret } from '../core/oci/environment';
import type { Manifest } from '../core/oci/manifest';
import { companionsOf } from '../core/oci/members';
import { parsePlatform, platformKey } from '../core/oci/platform';
import { typeOf } from '../core/oci/referrers';
import { formatRepository, type RepositoryName } from '../core/oci/reference';
import { signedRecordType } from '../core/ledger/release-record';
import { isOwnRecord } from '../core/ledger/rollback-record';
import { timestampOf } from '../core/time';
import type { TrustRules } from '../core/trust/trust-rules';
import { signatureUnder, type DocumentSignature } from '../core/release/gates/attested';
import { readSignedDocuments } from '../delivery/referrers/documents';
import { locate } from '../session/locate';
import type { Session } from '../session/session';

/** A layer of an image; `unpacked`: its bytes as it is unpacked, undefined where it was not read. */
export interface ShownLayer {
  readonly digest: Digest;
  readonly size: number;
  readonly unpacked: number | undefined;
}

/** What one image for one platform is. */
export interface ShownPlatform {
  readonly platform: string;
  readonly digest: Digest;
  readonly size: number;
  readonly unpacked: number | undefined;
  readonly layers: number;
  readonly created: string | undefined;
  readonly revision: string | undefined;
  readonly version: string | undefined;
  /** The image that it was built on, where it says so. */
  readonly base: { readonly name: string | undefined; readonly digest: string | undefined } | undefined;
}

/** How an image runs, and how it was made. */
export interface ShownRun extends Omit<Runs, 'environment'> {
  readonly environment: readonly { readonly name: string; readonly value: string; readonly masked: boolean }[];
  readonly labels: ReadonlyMap<string, string>;
  readonly history: readonly (Omit<HistoryEntry, 'empty'> & { readonly layer: ShownLayer | undefined })[];
  readonly layers: readonly ShownLayer[];
}

/** An artifact that is listed beside images or refers to one. `about`: the digest of that image. */
export interface ShownReferrer {
  readonly digest: Digest;
  readonly type: string;
  readonly size: number;
  readonly about: string | undefined;
  /** Who signed the documents in it; undefined where it holds none that Hod can check. */
  readonly signed?: readonly DocumentSignature[];
}

/** What one image, index or artifact is. */
export interface Shown {
  readonly reference: string;
  /** Undefined for a build output. */
  readonly repository: RepositoryName | undefined;
  readonly kind: 'image' | 'index' | 'bundle' | 'artifact';
  readonly manifest: Manifest;
  readonly size: number;
  /** Bytes that several platforms share. */
  readonly shared: number;
  readonly platforms: readonly ShownPlatform[];
  readonly referrers: readonly ShownReferrer[];
  /** Undefined where several platforms are shown. */
  readonly image: ShownRun | undefined;
}

/** Which platform is shown in full, and whether every layer is read. */
export interface ShowQuestion {
  readonly platform: string | undefined;
  readonly deep: boolean;
  /** Whose signatures count; undefined where no hod.yaml says so. */
  readonly trust: TrustRules | undefined;
}

/** Reads what one image or index is: its digest, its platforms, how large they are, how they run. */
export async function inspectReference(
  reference: string,
  { platform, deep, trust }: ShowQuestion,
  session: Session,
): Promise<Shown> {
  const node = await locate(session, reference);
  const { repository } = node.source;
  const { manifest } = node;
  const images = await runnableImages(node);
  const chosen = chooseImages(images, platform, reference);
  const unpacked = new Map<RunnableImage, readonly ShownLayer[]>();
  for (const image of chosen) {
    unpacked.set(image, await layersOf(image, deep));
  }
  const [only] = chosen;
  return {
    reference,
    repository: repository === undefined ? undefined : formatRepository(repository),
    kind: kindOfContent(manifest, images),
    manifest,
    size: sizeOf(node),
    shared: sharedBy(images),
    platforms: chosen.map((image) => describeImage(image, unpacked.get(image) ?? [])),
    referrers: await referrersOf(session, node, images, trust),
    image: only !== undefined && chosen.length === 1 ? describeRun(only, unpacked.get(only) ?? []) : undefined,
  };
}

function kindOfContent(manifest: Manifest, images: readonly RunnableImage[]): Shown['kind'] {
  if (manifest.kind === 'index') {
    return 'index';
  }
  return images.length > 0 ? 'image' : kindOf(manifest) === 'bundle' ? 'bundle' : 'artifact';
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
async function layersOf(
  { manifest, node: { source }, config }: RunnableImage,
  deep: boolean,
): Promise<readonly ShownLayer[]> {
  if (!deep) {
    return manifest.layers.map(({ digest, size }) => ({ digest, size, unpacked: undefined }));
  }
  const [{ hashed }, { unpacked }] = await Promise.all([import('../archive/plain-layer'), import('../archive/unpack')]);
  const layers: ShownLayer[] = [];
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
  layers: readonly ShownLayer[],
): ShownPlatform {
  const [name, digest] = [annotationKeys.baseName, annotationKeys.baseDigest].map((key) =>
    manifest.annotations.get(key),
  );
  return {
    platform: platformKey(platform),
    digest: manifest.digest,
    size: sizeOf(node),
    unpacked: layers.every((layer) => layer.unpacked !== undefined)
      ? layers.reduce((sum, layer) => sum + (layer.unpacked ?? 0), 0)
      : undefined,
    layers: manifest.layers.length,
    created,
    revision,
    version,
    base: name === undefined && digest === undefined ? undefined : { name, digest },
  };
}

function describeRun({ config }: RunnableImage, layers: readonly ShownLayer[]): ShownRun | undefined {
  if (config === undefined) {
    return undefined;
  }
  const { runs, history, labels } = config;
  let at = 0;
  return {
    ...runs,
    environment: runs.environment.map((text) => {
      const equals = text.indexOf('=');
      const [name, value] = [text.slice(0, equals), text.slice(equals + 1)];
      const masked = looksLikeSecret(name, value);
      return { name, value: masked ? '…' : value, masked };
    }),
    labels,
    history: history.map(({ created, by, comment, empty }) => {
      const layer = empty ? undefined : layers[at];
      at += empty ? 0 : 1;
      return { created, by, comment, layer };
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
async function referrersOf(
  session: Session,
  node: ContentNode,
  images: readonly RunnableImage[],
  trust: TrustRules | undefined,
): Promise<readonly ShownReferrer[]> {
  const listed = companionsOf({ node, images }).map(({ descriptor, node: { manifest } }) => ({
    digest: descriptor.digest,
    type: typeOf(manifest),
    size: descriptor.size,
    about: [...(descriptor.annotations?.values() ?? [])].find((value) =>
      images.some(({ manifest: own }) => own.digest === value),
    ),
  }));
  const { repository } = node.source;
  if (repository === undefined) {
    return listed;
  }
  // Keys must be valid now: what the ledger knew of before is not asked.
  const now = timestampOf(new Date());
  const subjects = [...new Set([node.manifest.digest, ...images.map(({ manifest }) => manifest.digest)])];
  const referring = await Promise.all(
    subjects.map(async (about) => {
      const client = session.client(repository);
      return Promise.all(
        (await client.referrersOf(about)).map(async ({ descriptor }): Promise<ShownReferrer> => {
          const { digest, artifactType, mediaType, size } = descriptor;
          const read = (): Promise<ContentNode> => readContent(client, descriptor);
          // A record that is not signed holds no document that is.
          const isPlain = isOwnRecord(artifactType) && artifactType !== signedRecordType;
          const documents = isPlain
            ? []
            : await readSignedDocuments([{ subject: about, digest, type: mediaType, read }]);
          const type = artifactType ?? mediaType;
          return documents.length === 0
            ? { digest, type, size, about }
            : { digest, type, size, about, signed: documents.map((each) => signatureUnder(each, about, trust, now)) };
        }),
      );
    }),
  );
  return [...listed, ...referring.flat()];
}
