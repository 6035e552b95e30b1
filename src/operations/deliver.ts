import { HodError } from '../core/errors';
import { contentOf, type ContentNode } from '../core/oci/content';
import type { Digest } from '../core/oci/digest';
import { describeManifest } from '../core/oci/manifest';
import { sealEntry, type Action, type LandedImage, type SetTag } from '../core/release/entry';
import { tagKey, type FactKey, type Facts, type Release } from '../core/release/facts';
import {
  becomesCurrent,
  decideTags,
  isRecorded,
  tagsToSet,
  type TagDecision,
  type TagRequest,
} from '../core/release/plan';
import type { Position } from '../core/tags/ordering';
import type { WantedTags } from '../core/tags/rules';
import type { Head } from '../core/release/entry';
import type { Ledger, LedgerState } from '../ledger/ledger';
import type { RepositoryClient } from '../registry/repository';
import { Carrier, noTransfer, type Limit, type Transfer, type TransferProgress } from '../registry/transfer';
import { readAncestry } from '../workspace/git';
import { toTagResult, type PublishResult } from './results';
import { actor } from './session';

/** What is answered about one image. */
export type DeliveredImage = PublishResult['images'][number];

/** An image on its way into an environment. */
export interface DeliveryImage {
  readonly image: string;
  readonly node: ContentNode;
  readonly platforms: readonly string[];
  readonly target: RepositoryClient;
  readonly tags: WantedTags;
}

/** A release on its way into an environment. */
export interface Delivery {
  readonly product: string;
  readonly environment: string;
  readonly position: Position;
  readonly images: readonly DeliveryImage[];
  /** The release, by its id. */
  readonly release: Digest;
  /** Throws where a rule forbids the delivery. Asked again whenever the ledger has changed. */
  permit(release: Release | undefined): void;
  /** What to write into the ledger. */
  action(landing: { images: LandedImage[]; tags: SetTag[]; current: boolean }): Action;
}

/** What became of a delivery. */
export interface Delivered {
  /** Whether the environment runs this release now. */
  current: boolean;
  images: DeliveredImage[];
}

/** What a delivery works with. */
export interface DeliveryContext {
  readonly ledger: Ledger;
  /** The working copy whose history orders commits. */
  readonly folder: string;
  readonly limit: Limit;
  readonly progress: TransferProgress;
  readonly dryRun: boolean;
}

/** A decision, and the ledger's head that it was made on. */
interface Verdict {
  head: Head;
  facts: Facts;
  decisions: TagDecision[];
  current: boolean;
}

/**
 * Brings a release into an environment: looks, decides, carries all content, writes the decision
 * into the ledger, and only then writes tags. The append to the ledger is the one serialised step;
 * whoever loses it decides again. A run that is killed leaves complete content without tags, or
 * tags still to be written, and the next run goes on from there.
 */
export async function deliver(delivery: Delivery, context: DeliveryContext): Promise<Delivered> {
  const { limit, dryRun } = context;
  let requests = await surveyTags(delivery, limit);
  let verdict = await judge(delivery, requests, context);
  const transfers = await carryAll(delivery, requests, context);
  if (!dryRun) {
    if (transfers.some(({ blobsSent }) => blobsSent > 0)) {
      // Sending takes its time. Whoever has no part in this ledger may have written tags meanwhile.
      requests = await surveyTags(delivery, limit);
    }
    verdict = await record(delivery, requests, context);
    verdict = { ...verdict, decisions: await settle(delivery, verdict.decisions, context) };
  }
  return {
    current: verdict.current,
    images: delivery.images.map((image, at) => describe(image, verdict.decisions, transfers[at] ?? noTransfer())),
  };
}

function describe(
  { image, node, platforms, target, tags }: DeliveryImage,
  decisions: readonly TagDecision[],
  transfer: Transfer,
): DeliveredImage {
  return {
    image,
    repository: target.label,
    digest: node.manifest.digest,
    mediaType: node.manifest.mediaType,
    platforms: [...platforms],
    tags: decisions.filter((decision) => decision.image === image).map(toTagResult),
    omitted: tags.left.map(({ rule, lacks }) => ({ rule: rule.template.text, lacks })),
    transfer: { ...transfer, requests: target.requests },
  };
}

/** An image and its digest. */
export function identified({ image, node }: DeliveryImage): { image: string; digest: Digest } {
  return { image, digest: node.manifest.digest };
}

/** What the registries serve now under every tag that the rules ask for. */
async function surveyTags(delivery: Delivery, limit: Limit): Promise<TagRequest[]> {
  const requests = delivery.images.flatMap(({ image, node, target, tags }) =>
    tags.wanted.map(async (wanted): Promise<TagRequest> => {
      const found = await limit(() => target.resolve(wanted.tag));
      return { image, repository: target.label, digest: node.manifest.digest, wanted, found };
    }),
  );
  return Promise.all(requests);
}

/** Reads the ledger and decides. Throws where a rule refuses. */
async function judge(
  delivery: Delivery,
  requests: readonly TagRequest[],
  { ledger, folder }: DeliveryContext,
): Promise<Verdict> {
  const { environment, position, release } = delivery;
  const { head, facts } = await ledger.read([
    { kind: 'release', key: release },
    { kind: 'environment', key: environment },
    ...requests.map(({ repository, wanted }): FactKey => ({ kind: 'tag', key: tagKey(repository, wanted.tag) })),
  ]);
  delivery.permit(facts.get('release', release));
  const others = otherCommits(position, requests, environment, facts);
  const ancestry = await readAncestry(folder, position.commit, others);
  const decisions = decideTags(requests, position, facts, ancestry);
  refuseOverwrites(decisions);
  const images = delivery.images.map(({ image }) => image);
  return { head, facts, decisions, current: becomesCurrent(environment, images, position, facts, ancestry) };
}

function otherCommits(
  position: Position,
  requests: readonly TagRequest[],
  environment: string,
  facts: Facts,
): string[] {
  const moving = requests.filter(({ wanted }) => wanted.rule.kind === 'moving');
  const tagged = moving.map(({ repository, wanted }) => facts.get('tag', tagKey(repository, wanted.tag))?.commit);
  const running = Object.values(facts.get('environment', environment) ?? {}).map(({ commit }) => commit);
  return [...tagged, ...running]
    .filter((commit) => commit !== undefined)
    .filter((commit) => commit !== position.commit);
}

/** Throws `refused` where a decision would overwrite a fixed tag, naming each with both digests. */
export function refuseOverwrites(decisions: readonly TagDecision[]): void {
  const refused = decisions.filter(({ outcome }) => outcome === 'refused');
  const [first] = refused;
  if (first === undefined) {
    return;
  }
  throw new HodError('refused', {
    what: refused.length === 1 ? 'a fixed tag stands for another digest' : 'fixed tags stand for other digests',
    object: refused.map(({ repository, tag }) => tagKey(repository, tag)).join('\n'),
    why: refused
      .map(({ image, tag, digest, reason }) => `${image}:${tag} ${reason}\n  this build is ${digest}`)
      .join('\n'),
    next: 'a fixed tag is never overwritten: publish this build from a new commit, or with a new version; nothing was changed',
  });
}

async function carryAll(
  delivery: Delivery,
  requests: readonly TagRequest[],
  { limit, progress, dryRun }: DeliveryContext,
): Promise<Transfer[]> {
  const carrier = new Carrier(limit, dryRun, progress);
  const carried = await Promise.allSettled(
    delivery.images.map(async ({ image, node, target }) => {
      const transfer = noTransfer();
      if (requests.some((request) => request.image === image && request.found === node.manifest.digest)) {
        transfer.blobsPresent = contentOf(node).blobs.length;
      } else {
        await carrier.carry(node, target, transfer);
      }
      return transfer;
    }),
  );
  return carried.map((each) => {
    if (each.status === 'rejected') {
      throw each.reason;
    }
    return each.value;
  });
}

/** Writes the decision into the ledger, deciding again for as long as somebody else is first. */
async function record(delivery: Delivery, requests: readonly TagRequest[], context: DeliveryContext): Promise<Verdict> {
  for (;;) {
    const verdict = await judge(delivery, requests, context);
    const tags = tagsToSet(verdict.decisions);
    const arrived = verdict.facts.get('release', delivery.release)?.arrived[delivery.environment];
    if (arrived !== undefined && isRecorded(tags, verdict.facts)) {
      return verdict;
    }
    const images = delivery.images.map(({ image, node, platforms, target }) => {
      return { image, repository: target.label, ...describeManifest(node.manifest), platforms: [...platforms] };
    });
    const entry = {
      product: delivery.product,
      seq: verdict.head.seq + 1,
      previous: verdict.head.hash,
      at: new Date().toISOString(),
      actor: actor(),
      action: delivery.action({ images, tags, current: verdict.current }),
    };
    if (await context.ledger.append([sealEntry(entry)], verdict.head)) {
      return verdict;
    }
  }
}

/**
 * Makes the registries serve what the ledger says, for the tags of this delivery. Reads the ledger
 * again after writing: where something newer was published meanwhile, that is what the tag must
 * end with, whoever wrote last.
 */
async function settle(delivery: Delivery, decisions: TagDecision[], context: DeliveryContext): Promise<TagDecision[]> {
  const ours = decisions.filter(({ outcome }) => outcome !== 'held');
  const served = new Map<string, Digest | undefined>(
    ours.map(({ repository, tag, previous }) => [tagKey(repository, tag), previous]),
  );
  const keys = [...served.keys()].map((key): FactKey => ({ kind: 'tag', key }));
  for (;;) {
    const { facts }: LedgerState = await context.ledger.read(keys);
    const pending = ours.flatMap((decision) => {
      const key = tagKey(decision.repository, decision.tag);
      const digest = facts.get('tag', key)?.digest;
      return digest === undefined || digest === served.get(key) ? [] : [{ decision, key, digest }];
    });
    if (pending.length === 0) {
      return decisions.map((decision) => asServed(decision, served.get(tagKey(decision.repository, decision.tag))));
    }
    // Fixed tags first: whoever sees a moving tag move finds the version there too.
    for (const kind of ['fixed', 'moving'] as const) {
      await Promise.all(
        pending
          .filter(({ decision }) => decision.kind === kind)
          .map(async ({ decision, key, digest }) => {
            await context.limit(() => writeTag(delivery, decision, digest));
            served.set(key, digest);
          }),
      );
    }
  }
}

function asServed(decision: TagDecision, served: Digest | undefined): TagDecision {
  return decision.outcome === 'held' || served === decision.digest
    ? decision
    : { ...decision, outcome: 'held', reason: 'something newer was published meanwhile' };
}

async function writeTag(delivery: Delivery, { image, tag }: TagDecision, digest: Digest): Promise<void> {
  const found = delivery.images.find((each) => each.image === image);
  if (found === undefined) {
    throw new Error(`the tag ${tag} is for ${image}, which is not delivered`);
  }
  const { node, target } = found;
  const manifest = node.manifest.digest === digest ? node.manifest : await target.manifest(digest);
  if (manifest === undefined) {
    throw new HodError('missing', {
      what: 'a tag cannot be brought up to date',
      object: tagKey(target.label, tag),
      why: `the ledger says that it points at ${digest}, which is not in the registry`,
      next: 'publish that build again',
    });
  }
  await target.putManifest(tag, manifest);
}

/** Throws `usage` where no rule of an environment gives a tag for an image. */
export function refuseWithoutTags(images: readonly DeliveryImage[], environment: string): void {
  const bare = images.find(({ tags }) => tags.wanted.length === 0);
  if (bare !== undefined) {
    const lacks = [...new Set(bare.tags.left.map((each) => each.lacks))].join(', ');
    throw new HodError('usage', {
      what: 'nothing would be tagged',
      object: `${bare.image} in ${environment}`,
      why: `every tag rule needs something that is not known: ${lacks}`,
      next: `give it (${lacks.includes('branch') ? '--branch' : '--version'}), or add a rule such as "c-{commit:12}" to hod.yaml`,
    });
  }
}
