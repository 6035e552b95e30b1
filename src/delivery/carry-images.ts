import { HodError } from '../core/errors';
import { runnableImages, type ContentNode, type RunnableImage } from '../core/oci/content';
import { kindOf } from '../core/oci/bundle';
import { describeManifest } from '../core/oci/manifest';
import { formatPlatform, parsePlatform, platformKey, type Platform } from '../core/oci/platform';
import { formatReference, parseReference, type Reference } from '../core/oci/reference';
import { typeOf } from '../core/oci/referrers';
import type { Tag } from '../core/oci/tag';
import type { TagDecision } from '../core/release/tag-decisions';
import { MemoryLedger } from '../ledger/memory';
import type { RepositoryClient } from '../registry/repository';
import { isHere, locate } from '../session/locate';
import type { Session } from '../session/session';
import { settleAll } from '../system/promises';
import { addTransfer, Carrier, type Transfer } from './carry';
import { decideNamedTag, parseTarget, writeNamedTag } from './fixed-tag';
import { carryReferrers, listReferrers, type CarriedReferrers, type ReferrerCount } from './referrers/carry';
import { findReferrers } from './referrers/find';

/** What is carried, and where to. */
export interface CarriageRequest {
  /** References or build outputs. */
  readonly sources: readonly string[];
  /** The repository; with a tag, where one image is carried. */
  readonly target: string;
  /** Only the image for this platform, by itself. */
  readonly platform?: string | undefined;
}

/** Something that was carried as it is. */
export interface CarriedImage {
  /** As it was named. */
  readonly from: string;
  readonly digest: ContentNode['manifest']['digest'];
  readonly mediaType: string;
  readonly size: number;
  /** What kind of artifact it is; undefined of an image. */
  readonly artifactType: string | undefined;
  readonly platforms: readonly string[];
  /** Undefined where no tag leads to it. */
  readonly decision: TagDecision | undefined;
  readonly referrers: ReferrerCount;
  readonly transfer: Transfer;
}

/** What is to be carried: its content, and the tag that it gets. */
interface Cargo {
  readonly from: string;
  readonly node: ContentNode;
  readonly tag: Tag | undefined;
}

/**
 * Carries images and artifacts into a repository as they are: the same digests, with their referrers; their tags last. A tag of the
 * source goes along where the target names none.
 *
 * @throws {@link HodError} `fixed-tag-taken` before anything is sent, where a tag leads to something else.
 */
export async function carryImages(
  request: CarriageRequest,
  { session, dryRun }: { readonly session: Session; readonly dryRun: boolean },
): Promise<{ target: RepositoryClient; images: readonly CarriedImage[] }> {
  const { repository, tag } = targetOf(request);
  const target = session.client(repository);
  const platform = request.platform === undefined ? undefined : parsePlatform(request.platform);
  const cargo = await settleAll(request.sources.map((from) => readCargo(from, { tag, platform }, session)));
  refuseOneTagTwice(cargo);
  const decided = await settleAll(
    cargo.map(async (each) => ({
      ...each,
      decision: each.tag && (await decideNamedTag(target, each.tag, each.node.manifest.digest)),
    })),
  );
  const carrier = new Carrier({ dryRun }, session.observer.transfer);
  const carried = await settleAll(
    decided.map(async (each) => {
      const transfer = await carrier.carry(each.node, target);
      return { ...each, transfer, referrers: await carryWith(each.node, target, carrier, session) };
    }),
  );
  if (!dryRun) {
    // No ledger knows what refers to what here.
    await listReferrers(
      carried.map(({ referrers }) => referrers),
      new MemoryLedger(),
    );
  }
  await settleAll(
    carried.map(async ({ node, decision, transfer }) => {
      if (decision !== undefined) {
        await writeNamedTag(node, target, decision, { carrier, transfer });
      }
    }),
  );
  return { target, images: await settleAll(carried.map(imageOf)) };
}

async function imageOf({
  from,
  node,
  decision,
  transfer,
  referrers,
}: Cargo & {
  readonly decision: TagDecision | undefined;
  readonly transfer: Transfer;
  readonly referrers: CarriedReferrers;
}): Promise<CarriedImage> {
  const images = await imagesIn(node);
  const isArtifact = images.length === 0 || kindOf(node.manifest) === 'bundle';
  return {
    from,
    ...describeManifest(node.manifest),
    artifactType: isArtifact ? typeOf(node.manifest) : undefined,
    platforms: images.map(({ platform }) => formatPlatform(platform)),
    decision,
    referrers: referrers.count,
    transfer: addTransfer(transfer, referrers.transfer),
  };
}

/** The images at or below something. What its config says is told, and matters to nothing: one that cannot be read is carried too. */
async function imagesIn(node: ContentNode): Promise<readonly RunnableImage[]> {
  try {
    return await runnableImages(node);
  } catch (error) {
    if (error instanceof HodError && error.fault === 'corrupt') {
      return [];
    }
    throw error;
  }
}

/** Carries what refers to something; records of Hod stay, which are about the environment that they are in. */
async function carryWith(
  node: ContentNode,
  target: RepositoryClient,
  carrier: Carrier,
  { observer }: Session,
): Promise<CarriedReferrers> {
  const isWithin = node.source.repository !== undefined && node.source.label === target.label;
  const referrers = isWithin ? [] : await findReferrers(node);
  const note = (text: string): void => {
    observer.note(text);
  };
  return carryReferrers({ target, referrers }, carrier, { all: false, note });
}

function targetOf({ target, sources, platform }: CarriageRequest): Reference {
  const reference = parseTarget(target);
  if (sources.length > 1 && reference.tag !== undefined) {
    throw new HodError('options-conflict', {
      what: 'one tag cannot lead to several images',
      object: target,
      why: `${sources.length} images are named, and one tag`,
      next: `name the repository alone: ${formatReference({ repository: reference.repository })}; each image keeps its tag${platform === undefined ? '' : ' unless one platform of it is chosen'}`,
    });
  }
  return reference;
}

async function readCargo(
  from: string,
  { tag, platform }: { readonly tag: Tag | undefined; readonly platform: Platform | undefined },
  session: Session,
): Promise<Cargo> {
  const whole = await locate(session, from);
  if (platform !== undefined) {
    // The tag of an index is none of one of its images.
    return { from, node: await imageFor(platform, whole, from), tag };
  }
  return { from, node: whole, tag: tag ?? (isHere(from) ? undefined : parseReference(from).tag) };
}

async function imageFor(platform: Platform, whole: ContentNode, from: string): Promise<ContentNode> {
  const images = await runnableImages(whole);
  const found = images.find((image) => platformKey(image.platform) === platformKey(platform));
  if (found === undefined) {
    throw new HodError('platform-missing', {
      what: 'it has no image for this platform',
      object: `${from} for ${formatPlatform(platform)}`,
      why: `it has ${images.map((image) => formatPlatform(image.platform)).join(', ') || 'no image that runs somewhere'}`,
      next: 'name one of these, or leave --platform out to carry all of it',
    });
  }
  return found.node;
}

function refuseOneTagTwice(cargo: readonly Cargo[]): void {
  const [first] = cargo.flatMap((each, at) => {
    const other = cargo
      .slice(0, at)
      .find(({ tag, node }) => tag === each.tag && node.manifest.digest !== each.node.manifest.digest);
    return each.tag === undefined || other === undefined ? [] : [{ each, other }];
  });
  if (first !== undefined) {
    const { each, other } = first;
    throw new HodError('options-conflict', {
      what: 'one tag cannot lead to several images',
      object: each.tag ?? '',
      why: `${other.from} and ${each.from} have the same tag, and different digests`,
      next: 'carry them one by one, each to a tag that you name; or name one of them by its digest',
    });
  }
}
