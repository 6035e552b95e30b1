import { HodError } from '../core/errors';
import { annotationKeys } from '../core/oci/annotations';
import type { ContentNode } from '../core/oci/content';
import type { LayoutEntry } from '../core/oci/layout-index';
import { describeManifest } from '../core/oci/manifest';
import { parseReference } from '../core/oci/reference';
import type { Release } from '../core/ledger/facts';
import { packedEntry, parcelArtifact, type LeftOut, type PackedDocument } from '../core/ledger/parcel-document';
import { recordArtifact, recordDocument } from '../core/ledger/release-record';
import { eventIn, partOf } from '../core/insight/timeline';
import type { Ledger } from '../ledger/ledger';
import { isHere, locate } from '../session/locate';
import type { Session } from '../session/session';
import { settleAll } from '../system/promises';
import { heldContent, type HeldRelease, type ReleaseContext } from './held-releases';
import { leftOutOf, readBase } from './parcel-base';
import { findReferrers } from './referrers/find';

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

/**
 * Reads releases, with what refers to them and what the ledger says of them.
 *
 * @param since A version, a commit or a parcel whose layers the other side has.
 */
export async function parcelOfReleases(
  packed: readonly HeldRelease[],
  since: string | undefined,
  context: ReleaseContext,
): Promise<Parcel> {
  const { config, session, ledger } = context;
  const { product } = config;
  const items = await settleAll(
    packed.flatMap(({ release, environment, components }) =>
      components.map(async (placed) => {
        const node = await heldContent(placed, environment, session);
        const record = recordArtifact(product, release, node.manifest);
        const along = inOrder([...(await referrersOf(node)), { node: record, name: undefined }]);
        return { name: placed.component, node, along, annotations: annotationsOf(release) };
      }),
    ),
  );
  const order = config.components.map(({ name }) => name);
  items.sort((a, b) => order.indexOf(a.name) - order.indexOf(b.name));
  const releases = packed.map(({ release }) => release);
  const base = since === undefined ? undefined : await readBase(since, context);
  const leftOut = base && leftOutOf(items, base);
  const document: PackedDocument = {
    product,
    releases: releases.map((release) => recordDocument(product, release)),
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

function annotationsOf({ version, commit }: Release): Record<string, string> {
  return {
    [annotationKeys.revision]: commit,
    ...(version === undefined ? {} : { [annotationKeys.version]: version }),
  };
}

/** The entries of the ledger that speak of some releases, as they stand there. */
async function entriesAbout(releases: readonly Release[], ledger: Ledger): Promise<PackedDocument['entries']> {
  const found: PackedDocument['entries'][number][] = [];
  for await (const sealed of ledger.entries()) {
    const event = eventIn(sealed);
    if (event !== undefined && releases.some((release) => partOf(release, event) !== undefined)) {
      found.push(packedEntry(sealed));
    }
  }
  return found;
}
