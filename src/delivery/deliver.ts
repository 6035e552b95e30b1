import { kindOf } from '../core/oci/bundle';
import { contentOf } from '../core/oci/content';
import type { Coming } from '../core/release/coming';
import { staysAsItIs, type TagDecision } from '../core/release/tag-decisions';
import type { Plan, Verdict } from '../core/release/verdict';
import { allSettled, Carrier, noTransfer, type Transfer } from './carry';
import { placed, type Delivered, type Delivery, type DeliveryContext, type DeliveryItem } from './delivery';
import { Judge, type Judged } from './judge';
import { record } from './record';
import { settle } from './settle';

/**
 * Brings releases into an environment: looks, decides, carries all content, writes the decision into
 * the ledger, and only then writes tags. The append to the ledger is the one serialised step; whoever
 * loses it decides again. A run that is killed leaves complete content without tags, or tags still to
 * be written, and the next run goes on from there.
 *
 * A dry run goes on where rules refuse, so that it can say everything that would be done.
 */
export async function deliver<P extends Plan>(delivery: Delivery<P>, context: DeliveryContext): Promise<Delivered<P>> {
  const { items } = delivery;
  const { dryRun } = context;
  const judge = new Judge(context, items);
  const judging = (): Promise<Judged<readonly Verdict<P>[]>> => judge.decide((known) => delivery.decide(known));
  const planned = (await (dryRun ? judge.rehearse((known) => delivery.decide(known)) : judging())).value;
  const carrier = new Carrier(dryRun, context.observer.transfer);
  const transfers = await carryAll(items, decisionsOf(planned), carrier);
  if (transfers.some(({ blobsSent }) => blobsSent > 0)) {
    // Sending takes its time. Whoever has no part in this ledger may have written tags meanwhile.
    judge.lookAgain();
  }
  const { value: verdicts, appended } = dryRun
    ? { value: planned, appended: false }
    : await record(delivery, judging, context);
  const decisions = dryRun
    ? decisionsOf(planned)
    : await settle(items, decisionsOf(verdicts), {
        ledger: context.ledger,
        appended,
        mending: (item, write) =>
          carrier.mending(item.node, item.target, write, transfers[items.indexOf(item)] ?? noTransfer()),
      });
  return {
    verdicts,
    items: items.map((item, at) => {
      const { plan, coming } = decidedAbout(item, verdicts);
      return {
        ...placed(item),
        kind: kindOf(item.node.manifest),
        origin: plan.origin,
        coming,
        tags: decisions.filter(({ image }) => image === item.image),
        omitted: (plan.tags.get(item.image)?.omitted ?? []).map(({ rule, missing }) => {
          return { rule: rule.template.text, missing };
        }),
        transfer: { ...(transfers[at] ?? noTransfer()), requests: item.target.requests },
      };
    }),
  };
}

function decisionsOf(verdicts: readonly Verdict<Plan>[]): TagDecision[] {
  return verdicts.flatMap(({ decisions }) => decisions);
}

/** What was decided about an item, and the plan that it comes in by. */
function decidedAbout({ image }: DeliveryItem, verdicts: readonly Verdict<Plan>[]): { plan: Plan; coming: Coming } {
  const [found] = verdicts.flatMap(({ plan, comings }) =>
    comings.filter((coming) => coming.image === image).map((coming) => ({ plan, coming })),
  );
  if (found === undefined) {
    throw new Error(`nothing was decided about ${image}`);
  }
  return found;
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
      const written = own.some(({ outcome }) => !staysAsItIs(outcome));
      return leads && !written
        ? { ...noTransfer(), blobsPresent: contentOf(node).blobs.length }
        : carrier.carry(node, target);
    }),
  );
}
