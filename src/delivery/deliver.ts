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
  const { items } = delivery;
  const judge = new Judge(context, items);
  const judging = (): Promise<Judged<Verdict<P>>> => judge.decide((known) => delivery.decide(known));
  const planned = (await judging()).value;
  const carrier = new Carrier(context.dryRun, context.observer.transfer);
  const transfers = await carryAll(items, planned.decisions, carrier);
  if (transfers.some(({ blobsSent }) => blobsSent > 0)) {
    // Sending takes its time. Whoever has no part in this ledger may have written tags meanwhile.
    judge.lookAgain();
  }
  const recorded = context.dryRun ? planned : await record(delivery, judging, context);
  const decisions = context.dryRun
    ? planned.decisions
    : await settle(items, recorded.decisions, {
        ledger: context.ledger,
        mending: (item, write) =>
          carrier.mending(item.node, item.target, write, transfers[items.indexOf(item)] ?? noTransfer()),
      });
  const { plan, current, gates } = recorded;
  return {
    plan,
    current,
    gates,
    items: items.map((item, at) => ({
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

/** Carries what a tag is to lead to. Where every tag leads there already, nothing is written, and nothing relied on. */
function carryAll(
  items: readonly DeliveryItem[],
  decisions: readonly TagDecision[],
  carrier: Carrier,
): Promise<Transfer[]> {
  return allSettled(
    items.map(async ({ image, node, target }) => {
      const own = decisions.filter((decision) => decision.image === image);
      const leads = own.some(({ served }) => served === node.manifest.digest);
      const written = own.some(({ outcome }) => outcome === 'created' || outcome === 'moved');
      return leads && !written
        ? { ...noTransfer(), blobsPresent: contentOf(node).blobs.length }
        : carrier.carry(node, target);
    }),
  );
}
