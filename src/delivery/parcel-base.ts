import type { LeftOut } from '../core/ledger/parcel-document';
import type { Release } from '../core/ledger/facts';
import { nodesOf, type ContentNode } from '../core/oci/content';
import type { Descriptor } from '../core/oci/descriptor';
import type { Digest } from '../core/oci/digest';
import type { LayoutEntry } from '../core/oci/layout-index';
import { blobsOf, type Manifest } from '../core/oci/manifest';
import { describePosition } from '../core/tags/ordering';
import { versionNamed } from '../core/tags/version';
import { isHere, readOutputAt } from '../session/locate';
import { settleAll } from '../system/promises';
import { contentsOf, heldRelease, type ReleaseContext } from './held-releases';
import { readParcelDocument } from './sources/parcel';

/** What the other side has. */
export interface ParcelBase {
  /** Releases, in words. */
  readonly releases: readonly string[];
  readonly layers: ReadonlySet<Digest>;
}

/** Reads which layers the other side has: those of a release, or of a parcel, whether it holds them or left them out, too. */
export async function readBase(since: string, context: ReleaseContext): Promise<ParcelBase> {
  const isParcel = isHere(since) && versionNamed(since) === undefined;
  const { releases, nodes } = await (isParcel ? parcelBase(since, context) : releaseBase(since, context));
  const layers = nodes.flatMap(nodesOf).flatMap(({ manifest }) => layersOf(manifest).map(({ digest }) => digest));
  return { releases: releases.map(describePosition), layers: new Set(layers) };
}

interface ReadBase {
  readonly releases: readonly Pick<Release, 'version' | 'commit'>[];
  readonly nodes: readonly ContentNode[];
}

async function releaseBase(named: string, context: ReleaseContext): Promise<ReadBase> {
  const why = 'there is no file of this name, and the ledger has no release of it';
  const next = 'name a version, a commit or a parcel with --since';
  const held = await heldRelease(named, { why, next }, context);
  const contents = await contentsOf([held], context);
  return { releases: [held.release], nodes: contents.map(({ node }) => node) };
}

async function parcelBase(path: string, { config, session }: ReleaseContext): Promise<ReadBase> {
  const read = await readParcelDocument(path, config.product);
  const releases = read.releases.map(({ record }) => record);
  const names = new Set(releases.flatMap(({ components }) => components.map(({ component }) => component)));
  return {
    releases,
    nodes: await settleAll([...names].map((name) => readOutputAt(`${path}#${name}`, session.observer))),
  };
}

function layersOf(manifest: Manifest): readonly Descriptor[] {
  return manifest.kind === 'image' ? manifest.layers : [];
}

/** The layers that the other side has; what is small, and said of an image, is packed anyway. */
export function leftOutOf(
  items: readonly { node: ContentNode; along: readonly LayoutEntry[] }[],
  base: ParcelBase,
): LeftOut {
  const contents = items.flatMap(({ node }) => nodesOf(node)).map(({ manifest }) => manifest);
  const along = items.flatMap((item) => item.along.flatMap(({ node }) => nodesOf(node)));
  const needed = new Set([
    ...contents.flatMap((manifest) => (manifest.kind === 'image' ? [manifest.config.digest] : [])),
    ...along.flatMap(({ manifest }) => blobsOf(manifest).map(({ digest }) => digest)),
  ]);
  const layers = contents.flatMap(layersOf).filter(({ digest }) => base.layers.has(digest) && !needed.has(digest));
  const blobs = [...new Map(layers.map(({ digest, size }) => [digest, { digest, size }])).values()];
  return { releases: [...base.releases], blobs: blobs.sort((a, b) => (a.digest < b.digest ? -1 : 1)) };
}
