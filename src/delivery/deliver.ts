import { kindOf } from '../core/oci/bundle';
import { contentOf } from '../core/oci/content';
import type { TagDecision } from '../core/release/tag-decisions';
import type { Plan, Verdict } from '../core/release/verdict';
import { allSettled, Carrier, noTransfer, type Transfer } from './carry';
import { placed, type Delivered, type Delivery, type DeliveryContext, type DeliveryItem } from './delivery';
import { Judge, type Judged } from './judge';
import { record } from './record';
import { settle } from './settle';

/**
 * Brings a release into an environment: looks, decides, carries all content, writes the decision
 * into the ledger, and only then writes tags. The append to the ledger is the one serialised step;
 * whoever loses it decides again. A run that is killed leaves complete content without tags, or
 * tags still to be written, and the next run goes on from there.
 */
export async function deliver<P extends Plan>(delivery: Delivery<P>, context: DeliveryContext): Promise<Delivered<P>> {
  const judge = new Judge(context, delivery.items);
  const judging = (): Promise<Judged<Verdict<P>>> => judge.decide((known) => delivery.decide(known));
  const planned = (await judging()).value;
  const transfers = await carryAll(delivery.items, planned.decisions, context);
  if (transfers.some(({ blobsSent }) => blobsSent > 0)) {
    // Sending takes its time. Whoever has no part in this ledger may have written tags meanwhile.
    judge.lookAgain();
  }
  const recorded = context.dryRun ? planned : await record(delivery, judging, context);
  const decisions = context.dryRun
    ? planned.decisions
    : await settle(delivery.items, recorded.decisions, context.ledger);
  const { plan, current, gates } = recorded;
  return {
    plan,
    current,
    gates,
    items: delivery.items.map((item, at) => ({
      ...placed(item),
      kind: kindOf(item.node.manifest),
      tags: decisions.filter(({ image }) => image === item.image),
      omitted: (plan.tags.get(item.image)?.omitted ?? []).map(({ rule, missing }) => {
        return { rule: rule.template.text, missing };
      }),
      transfer: { ...(transfers[at] ?? noTransfer()), requests: item.target.requests },
    })),
  };
}

/** Carries what is not there yet; what a tag already leads to was complete when that tag was written. */
function carryAll(
  items: readonly DeliveryItem[],
  decisions: readonly TagDecision[],
  { observer, dryRun }: DeliveryContext,
): Promise<Transfer[]> {
  const carrier = new Carrier(dryRun, observer.transfer);
  return allSettled(
    items.map(async ({ image, node, target }) => {
      const { digest } = node.manifest;
      return decisions.some((decision) => decision.image === image && decision.served === digest)
        ? { ...noTransfer(), blobsPresent: contentOf(node).blobs.length }
        : carrier.carry(node, target);
    }),
  );
}
