import { HodError } from '../core/errors';
import { kindOf } from '../core/oci/bundle';
import { contentOf } from '../core/oci/content';
import type { Digest } from '../core/oci/digest';
import { entryAfter } from '../core/release/entry';
import { tagKey, type FactKey } from '../core/release/facts';
import { isRecorded, tagsToSet, type TagDecision, type TagRequest } from '../core/release/plan';
import type { LedgerState } from '../ledger/ledger';
import { Carrier, noTransfer, type Transfer } from '../registry/transfer';
import { landed, type Delivery, type DeliveryContext, type DeliveryImage, type Plan } from './delivery';
import { Judge, type Verdict } from './judge';
import { toTagResult, type PublishResult } from './results';

/** What is answered about one image. */
export type DeliveredImage = PublishResult['images'][number];

/** What became of a delivery. */
export interface Delivered<P extends Plan> {
  /** What was done in the end. */
  plan: P;
  /** Whether the environment runs this release now. */
  current: boolean;
  images: DeliveredImage[];
}

/**
 * Brings a release into an environment: looks, decides, carries all content, writes the decision
 * into the ledger, and only then writes tags. The append to the ledger is the one serialised step;
 * whoever loses it decides again. A run that is killed leaves complete content without tags, or
 * tags still to be written, and the next run goes on from there.
 */
export async function deliver<P extends Plan>(delivery: Delivery<P>, context: DeliveryContext): Promise<Delivered<P>> {
  const judge = new Judge(delivery, context);
  let verdict = await judge.decide();
  const transfers = await carryAll(delivery, verdict.requests, context);
  if (!context.dryRun) {
    if (transfers.some(({ blobsSent }) => blobsSent > 0)) {
      // Sending takes its time. Whoever has no part in this ledger may have written tags meanwhile.
      judge.lookAgain();
    }
    verdict = await record(delivery, judge, context);
    verdict = { ...verdict, decisions: await settle(delivery, verdict.decisions, context) };
  }
  const { plan, current, decisions } = verdict;
  return {
    plan,
    current,
    images: delivery.images.map((image, at) => describe(image, plan, decisions, transfers[at] ?? noTransfer())),
  };
}

function describe(
  { image, node, platforms, target }: DeliveryImage,
  plan: Plan,
  decisions: readonly TagDecision[],
  transfer: Transfer,
): DeliveredImage {
  return {
    image,
    kind: kindOf(node.manifest),
    repository: target.label,
    digest: node.manifest.digest,
    mediaType: node.manifest.mediaType,
    platforms: [...platforms],
    tags: decisions.filter((decision) => decision.image === image).map(toTagResult),
    omitted: (plan.tags.get(image)?.left ?? []).map(({ rule, lacks }) => ({ rule: rule.template.text, lacks })),
    transfer: { ...transfer, requests: target.requests },
  };
}

async function carryAll(
  delivery: Delivery<Plan>,
  requests: readonly TagRequest[],
  { limit, observer, dryRun }: DeliveryContext,
): Promise<Transfer[]> {
  const carrier = new Carrier(limit, dryRun, observer.transfer);
  const carried = await Promise.allSettled(
    delivery.images.map(async ({ image, node, target }) => {
      const transfer = noTransfer();
      const { digest } = node.manifest;
      if (requests.some((request) => request.image === image && request.found?.digest === digest)) {
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
async function record<P extends Plan>(
  delivery: Delivery<P>,
  judge: Judge<P>,
  { ledger, actor, observer }: DeliveryContext,
): Promise<Verdict<P>> {
  for (let attempt = 1; ; attempt += 1) {
    const verdict = await judge.decide();
    const { plan, head } = verdict;
    const tags = tagsToSet(verdict.decisions);
    const arrived = verdict.facts.get('release', plan.release)?.arrived[delivery.environment];
    if (arrived !== undefined && isRecorded(tags, verdict.facts)) {
      return verdict;
    }
    const images = delivery.images.map(landed);
    const entry = entryAfter(head, {
      product: delivery.product,
      at: new Date().toISOString(),
      actor,
      action: delivery.action(plan, { images, tags, current: verdict.current }),
    });
    const milliseconds = await ledger.append([entry], head);
    if (milliseconds !== undefined) {
      observer.recorded({ seq: entry.entry.seq, attempt, milliseconds });
      return verdict;
    }
  }
}

/**
 * Makes the registries serve what the ledger says, for the tags of this delivery. Reads the ledger
 * again after writing: where something newer was published meanwhile, that is what the tag must
 * end with, whoever wrote last.
 */
async function settle(
  delivery: Delivery<Plan>,
  decisions: TagDecision[],
  context: DeliveryContext,
): Promise<TagDecision[]> {
  // A tag that is held although it points here was written late by a run of this build that was killed then.
  const ours = decisions.filter(({ outcome, previous, digest }) => outcome !== 'held' || previous === digest);
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
    : { ...decision, outcome: 'held', reason: 'something newer was published meanwhile', late: true };
}

async function writeTag(delivery: Delivery<Plan>, { image, tag }: TagDecision, digest: Digest): Promise<void> {
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
