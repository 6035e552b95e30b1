import { contentOf } from '../core/oci/content';
import type { ComponentArrival } from '../core/release/component-arrival';
import { staysAsItIs, type TagDecision } from '../core/release/tag-decisions';
import { isKnown, type Plan, type Verdict } from '../core/release/verdict';
import { referrerFacts, carryReferrers, listReferrers, subjectsOf, type CarriedReferrers } from './referrers/carry';
import { addTransfer, Carrier, noTransfer, type Transfer } from './carry';
import { settleAll, settleBoth } from '../system/promises';
import {
  kindAndType,
  placed,
  type Delivered,
  type Delivery,
  type DeliveryContext,
  type DeliveryItem,
} from './delivery';
import { Judge, type Judged } from './judge';
import { record, recordingOf, type Recording } from './record';
import { completing, settle } from './settle';

/**
 * Brings releases into an environment: looks, decides, carries all content, writes the decision into
 * the ledger, and only then writes tags. The append to the ledger is the one serialised step; whoever
 * loses it decides again. A run that is killed leaves complete content without tags, or tags still to
 * be written, and the next run goes on from there.
 *
 * The referrers of a component are carried after it, and listed before its tags are written: who finds a tag
 * finds it signed.
 *
 * A dry run goes on where rules refuse, so that it can say everything that would be done.
 */
export async function deliver<P extends Plan>(delivery: Delivery<P>, context: DeliveryContext): Promise<Delivered<P>> {
  const { items, manner } = delivery;
  const { dryRun, ledger } = context;
  const subjects = items.map(({ node, target, referrers }) => ({ target, subjects: subjectsOf(node, referrers) }));
  const judge = new Judge(context, items, referrerFacts(subjects));
  const judging = (): Promise<Judged<readonly Verdict<P>[]>> => judge.decide((known) => delivery.decide(known));
  const planned = await (dryRun ? judge.rehearse((known) => delivery.decide(known)) : judging());
  const set = await context.together?.judged(delivery.product, ledger);
  const carrier = new Carrier({ dryRun }, context.observer.transfer);
  const carried = await carryItems(delivery, planned, carrier, context);
  if (dryRun) {
    return deliveredOf(planned.value, carried, decisionsOf(planned.value));
  }
  if (carried.some(({ transfer: { blobsSent } }) => blobsSent > 0)) {
    // Sending takes its time. Whoever has no part in this ledger may have written tags meanwhile.
    judge.forgetServed();
  }
  const referrers = carried.map((each) => each.referrers);
  const { value, appended } = await record(delivery, context, {
    set,
    judging,
    itemReferrers: referrers,
    arrive: async (item) => {
      await carrier.carry(item.node, item.target);
      await carrier.witness(item.node, item.target);
    },
  });
  const { verdicts, records } = value;
  const told = records.filter(({ item, isNew }) => isNew || !courseOf(carried, item).settled);
  const decisions = await completing(delivery.environment, async () => {
    await settleAll(told.map((recording) => tellRelease(recording, carrier, manner)));
    await listReferrers([...referrers, ...told], ledger);
    return settle(items, decisionsOf(verdicts), {
      ledger,
      appended,
      mending: (item, write) => carrier.mending(item.node, item.target, write, courseOf(carried, item).transfer),
    });
  });
  return deliveredOf(verdicts, carried, decisions);
}

/** An item on its way. */
interface Course {
  readonly item: DeliveryItem;
  /** All its tags led there already: nothing of it was looked at. */
  readonly settled: boolean;
  readonly transfer: Transfer;
  readonly referrers: CarriedReferrers;
}

function courseOf(carried: readonly Course[], item: DeliveryItem): Course {
  const course = carried.find((each) => each.item === item);
  if (course === undefined) {
    throw new Error(`${item.component} was not carried`);
  }
  return course;
}

/** Carries the content of each item, then what refers to it, and the record of a release that the ledger knows already. */
async function carryItems<P extends Plan>(
  { items, manner, environment, product }: Delivery<P>,
  { value: planned, facts }: Judged<readonly Verdict<P>[]>,
  carrier: Carrier,
  { observer }: DeliveryContext,
): Promise<Course[]> {
  const recorded = decisionsOf(planned.filter((verdict) => isKnown(environment, verdict, facts)));
  const note = (text: string): void => {
    observer.note(text);
  };
  return settleAll(
    items.map(async (item) => {
      const settled = !manner.mend && isSettled(item, recorded);
      const transfer = await (settled ? untouched(item) : carrier.carry(item.node, item.target));
      const release = facts.get('release', decidedAbout(item, planned).plan.release);
      const isTold = settled || release === undefined || !manner.records;
      const record = isTold ? undefined : recordingOf(item, product, release, facts);
      const telling = record?.isNew === true ? [tellRelease(record, carrier, manner)] : [];
      const [referrers] = await settleBoth(
        carryReferrers(item, carrier, { all: manner.mend, note }),
        settleAll(telling),
      );
      return { item, settled, transfer, referrers };
    }),
  );
}

/** What became of each item. */
function deliveredOf<P extends Plan>(
  verdicts: readonly Verdict<P>[],
  carried: readonly Course[],
  decisions: readonly TagDecision[],
): Delivered<P> {
  return {
    verdicts,
    items: carried.map(({ item, transfer, referrers }) => {
      const { plan, arrival } = decidedAbout(item, verdicts);
      return {
        ...placed(item),
        ...kindAndType(item.node.manifest),
        origin: plan.origin,
        arrival,
        tags: decisions.filter(({ component }) => component === item.component),
        omitted: (plan.tags.get(item.component)?.omitted ?? [])
          // A bundle runs nowhere: it has no tags of platforms.
          .filter(({ missing }) => missing !== 'platform' || item.platforms.length > 0)
          .map(({ rule, missing }) => ({ rule: rule.template.text, missing })),
        referrers: referrers.count,
        transfer: { ...addTransfer(transfer, referrers.transfer), requests: item.target.requests },
      };
    }),
  };
}

function decisionsOf(verdicts: readonly Verdict<Plan>[]): TagDecision[] {
  return verdicts.flatMap(({ decisions }) => decisions);
}

/** What was decided about an item, and the plan that it comes in by. */
function decidedAbout(
  { component }: DeliveryItem,
  verdicts: readonly Verdict<Plan>[],
): { plan: Plan; arrival: ComponentArrival } {
  const [found] = verdicts.flatMap(({ plan, arrivals }) =>
    arrivals.filter((arrival) => arrival.component === component).map((arrival) => ({ plan, arrival })),
  );
  if (found === undefined) {
    throw new Error(`nothing was decided about ${component}`);
  }
  return found;
}

/** Whether every tag of an item leads there already: then nothing is written, and nothing relied on. */
function isSettled({ component, node }: DeliveryItem, decisions: readonly TagDecision[]): boolean {
  const own = decisions.filter((decision) => decision.component === component);
  const leads = own.some(({ served }) => served === node.manifest.digest);
  return leads && own.every(({ outcome }) => staysAsItIs(outcome));
}

function untouched({ node }: DeliveryItem): Promise<Transfer> {
  return Promise.resolve({ ...noTransfer(), blobsPresent: contentOf(node).blobs.length });
}

/**
 * Brings the record of a release to a component. Where all tags of a component are written, its record was, before them: it is
 * looked for only where they are not, or the ledger has just learnt of it.
 */
async function tellRelease(
  { carried: [{ node }], target, isNew }: Recording,
  carrier: Carrier,
  { mend }: { readonly mend: boolean },
): Promise<void> {
  if (isNew || mend || (await target.manifests.resolve(node.manifest.digest)) === undefined) {
    await carrier.carry(node, target);
  }
}
