import { HodError, type Problem } from '../core/errors';
import { annotationKeys } from '../core/oci/annotations';
import { nodesOf, readContent, type ContentNode } from '../core/oci/content';
import type { Digest } from '../core/oci/digest';
import type { LayoutEntry } from '../core/oci/layout-index';
import type { Descriptor } from '../core/oci/descriptor';
import { blobsOf, describeManifest, type Manifest } from '../core/oci/manifest';
import { parseReference } from '../core/oci/reference';
import { cameInto, servedIn } from '../core/ledger/environment';
import type { FactKey, Facts, Release } from '../core/ledger/facts';
import { packedEntry, parcelArtifact, type LeftOut, type ParcelDocument } from '../core/ledger/parcel-document';
import { recordArtifact, recordOf } from '../core/ledger/release-record';
import type { PlacedComponent, ReleaseId } from '../core/ledger/release';
import { eventIn, partOf } from '../core/insight/timeline';
import { describePosition } from '../core/tags/ordering';
import { versionNamed } from '../core/tags/version';
import type { Ledger } from '../ledger/ledger';
import { isHere, locate, readOutputAt } from '../session/locate';
import type { Session } from '../session/session';
import { settleAll } from '../system/promises';
import type { Config, EnvironmentConfig } from '../workspace/config';
import { findReferrers } from './referrers/find';
import { findRelease } from './sources/choice';
import { readParcelDocument } from './sources/parcel';

/** A release, and those of its components that are packed, from where they are. */
interface PackedRelease {
  readonly release: Release;
  readonly environment: EnvironmentConfig;
  readonly components: readonly PlacedComponent[];
}

/** Everything that goes into a parcel. */
export interface Parcel {
  readonly releases: readonly Release[];
  /** What is packed, apart from what refers to it. */
  readonly contents: readonly { readonly name: string; readonly node: ContentNode }[];
  /** How many referrers are packed. */
  readonly referrers: number;
  /** How many entries of the ledger are packed. */
  readonly ledgerEntries: number;
  /** All that the layout lists. */
  readonly entries: readonly LayoutEntry[];
  /** The layers that are not in it. */
  readonly leftOut: LeftOut | undefined;
}

/** Reads images by their references, or build outputs, with their referrers. */
export async function parcelOfImages(places: readonly string[], session: Session): Promise<Parcel> {
  const contents = await settleAll(
    places.map(async (place) => ({ name: nameOf(place), node: await locate(session, place) })),
  );
  refuseOneNameTwice(contents);
  const along = await settleAll(contents.map(({ node }) => referrersOf(node)));
  return {
    releases: [],
    contents,
    referrers: along.flat().length,
    ledgerEntries: 0,
    leftOut: undefined,
    entries: [...contents, ...along.flat()],
  };
}

/** An image in a layout is called as it is in its repository: the last part of its name, with its tag. */
function nameOf(place: string): string {
  if (isHere(place)) {
    const last = place.replace(/\/+$/, '').split('/').at(-1) ?? place;
    return last.replace(/^.*#/, '').replace(/\.(tar\.gz|tgz|tar)$/, '');
  }
  const { repository, tag } = parseReference(place);
  const name = repository.name.split('/').at(-1) ?? repository.name;
  return tag === undefined ? name : `${name}:${tag}`;
}

function refuseOneNameTwice(contents: readonly { readonly name: string }[]): void {
  const twice = contents.find(({ name }, at) => contents.findIndex((each) => each.name === name) !== at);
  if (twice !== undefined) {
    throw new HodError('options-conflict', {
      what: 'two images would have one name in the parcel',
      object: twice.name,
      why: 'images are called by the last part of their repository, and by their tag',
      next: 'pack them one by one',
    });
  }
}

/** What refers to some content, as entries of a layout, in the order of their digests. */
async function referrersOf(node: ContentNode): Promise<LayoutEntry[]> {
  const found = await findReferrers(node);
  const read = await settleAll(found.map(async ({ tag, read: open }) => ({ node: await open(), name: tag })));
  return inOrder(read);
}

function inOrder(entries: readonly LayoutEntry[]): LayoutEntry[] {
  return [...entries].sort((a, b) => (a.node.manifest.digest < b.node.manifest.digest ? -1 : 1));
}

/** What a parcel of releases is read from. */
export interface ParcelContext {
  readonly config: Config;
  readonly session: Session;
  readonly ledger: Ledger;
  /** A version, a commit or a parcel whose layers the other side has. */
  readonly since: string | undefined;
}

/**
 * Reads the releases that an environment serves.
 *
 * @throws {@link HodError} `environment-empty`
 */
export async function parcelOfEnvironment(environment: EnvironmentConfig, context: ParcelContext): Promise<Parcel> {
  const { ledger } = context;
  const { facts } = await ledger.read([{ kind: 'environment', key: environment.name }]);
  const served = servedIn(facts, environment.name);
  const releases = await readReleases([...new Set(served.map(({ release }) => release))], ledger);
  if (releases.length === 0) {
    throw new HodError('environment-empty', {
      what: 'nothing is served there',
      object: environment.name,
      why: `${environment.name} serves nothing yet`,
      next: 'name a version that was published, or another environment',
    });
  }
  const packed = releases.map((release): PackedRelease => ({
    release,
    environment,
    components: served.filter((each) => each.release === release.release),
  }));
  return parcelOf(packed, context);
}

/**
 * Reads the release that a version or a commit names, from the last environment that it came into.
 *
 * @throws {@link HodError} `never-published`; `components-not-there` where no environment of hod.yaml has all of it.
 */
export async function parcelOfRelease(named: string, context: ParcelContext): Promise<Parcel> {
  const release = await releaseNamed(named, context, {
    why: `it is no environment of ${context.config.file}, and the ledger has no release of it`,
    next: 'name an environment, a version or a commit (`hod status` lists them), or a reference',
  });
  return parcelOf([{ release, ...placeOf(release, context.config) }], context);
}

async function releaseNamed(
  named: string,
  { config, ledger }: ParcelContext,
  advice: Pick<Problem, 'why' | 'next'>,
): Promise<Release> {
  const release = await findRelease(named, config.folder, ledger);
  if (release === undefined) {
    throw new HodError('never-published', {
      what: 'this was never published',
      object: named,
      ...advice,
    });
  }
  return release;
}

/** Where all components of a release are. */
function placeOf(release: Release, { environments }: Config): Pick<PackedRelease, 'environment' | 'components'> {
  const environment = environments.findLast(({ name }) =>
    release.components.every(({ component }) => cameInto(release, name, component)),
  );
  if (environment === undefined) {
    throw new HodError('components-not-there', {
      what: 'no environment has all of this release',
      object: describePosition(release),
      why: `it came into ${[...new Set(release.arrived.map((stay) => stay.environment))].join(', ') || 'none'}, and was held there, or came in part`,
      next: 'pack what an environment serves: `hod pack prod`',
    });
  }
  return { environment, components: release.components };
}

async function readReleases(ids: readonly ReleaseId[], ledger: Ledger): Promise<Release[]> {
  const { facts }: { facts: Facts } = await ledger.read(ids.map((key): FactKey => ({ kind: 'release', key })));
  return ids.flatMap((id) => facts.get('release', id) ?? []);
}

async function parcelOf(packed: readonly PackedRelease[], context: ParcelContext): Promise<Parcel> {
  const { config, session, ledger } = context;
  const { product } = config;
  const items = await settleAll(
    packed.flatMap(({ release, environment, components }) =>
      components.map(async ({ component, digest, mediaType, size }) => {
        const source = session.client(environment.repositoryOf(component));
        const node = await readContent(source, { digest, mediaType, size });
        const record = recordArtifact(recordOf(product, release), node.manifest);
        const along = inOrder([...(await referrersOf(node)), { node: record, name: undefined }]);
        return { name: component, node, along, annotations: annotationsOf(release) };
      }),
    ),
  );
  const order = config.components.map(({ name }) => name);
  items.sort((a, b) => order.indexOf(a.name) - order.indexOf(b.name));
  const releases = packed.map(({ release }) => release);
  const base = context.since === undefined ? undefined : await readBase(context.since, context);
  const leftOut = base && leftOutOf(items, base);
  const document: ParcelDocument = {
    product,
    releases: releases.map((release) => recordOf(product, release)),
    entries: await entriesAbout(releases, ledger),
    leftOut,
  };
  const about: LayoutEntry = { node: parcelArtifact(document), name: undefined };
  const referrers = items.flatMap(({ along }) => along);
  return {
    releases,
    contents: items.map(({ name, node }) => ({ name, node })),
    referrers: referrers.length,
    ledgerEntries: document.entries.length,
    leftOut,
    entries: [
      ...items.map(({ name, node, annotations }) => ({ name, node, annotations })),
      ...[...new Map(referrers.map((each) => [describeManifest(each.node.manifest).digest, each])).values()],
      about,
    ],
  };
}

function contentsOf({ environment, components }: PackedRelease, { session }: ParcelContext): Promise<ContentNode[]> {
  return settleAll(
    components.map(({ component, digest, mediaType, size }) =>
      readContent(session.client(environment.repositoryOf(component)), { digest, mediaType, size }),
    ),
  );
}

/** What the other side has. */
interface Base {
  /** Releases, in words. */
  readonly releases: readonly string[];
  readonly layers: ReadonlySet<Digest>;
}

/** Reads which layers the other side has: those of a release, or of a parcel, whether it holds them or left them out, too. */
async function readBase(since: string, context: ParcelContext): Promise<Base> {
  const isParcel = isHere(since) && versionNamed(since) === undefined;
  const { releases, nodes } = await (isParcel ? parcelBase(since, context) : releaseBase(since, context));
  const layers = nodes.flatMap(nodesOf).flatMap(({ manifest }) => layersOf(manifest).map(({ digest }) => digest));
  return { releases: releases.map(describePosition), layers: new Set(layers) };
}

interface ReadBase {
  readonly releases: readonly Pick<Release, 'version' | 'commit'>[];
  readonly nodes: readonly ContentNode[];
}

async function releaseBase(named: string, context: ParcelContext): Promise<ReadBase> {
  const release = await releaseNamed(named, context, {
    why: 'there is no file of this name, and the ledger has no release of it',
    next: 'name a version, a commit or a parcel with --since',
  });
  return { releases: [release], nodes: await contentsOf({ release, ...placeOf(release, context.config) }, context) };
}

async function parcelBase(path: string, { config, session }: ParcelContext): Promise<ReadBase> {
  const { releases } = await readParcelDocument(path, config.product);
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
function leftOutOf(items: readonly { node: ContentNode; along: readonly LayoutEntry[] }[], base: Base): LeftOut {
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

function annotationsOf({ version, commit }: Release): Record<string, string> {
  return {
    [annotationKeys.revision]: commit,
    ...(version === undefined ? {} : { [annotationKeys.version]: version }),
  };
}

/** The entries of the ledger that speak of some releases, as they stand there. */
async function entriesAbout(releases: readonly Release[], ledger: Ledger): Promise<ParcelDocument['entries']> {
  const found: ParcelDocument['entries'][number][] = [];
  for await (const sealed of ledger.entries()) {
    const event = eventIn(sealed);
    if (event !== undefined && releases.some((release) => partOf(release, event) !== undefined)) {
      found.push(packedEntry(sealed));
    }
  }
  return found;
}
