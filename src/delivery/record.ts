import type { Action } from '../core/release/actions';
import { entryAfter, type Head } from '../core/release/entry';
import type { Facts } from '../core/release/facts';
import { isRecorded, tagsToSet } from '../core/release/tag-decisions';
import type { Plan, Verdict } from '../core/release/verdict';
import { timestampOf } from '../core/time';
import { placed, type Delivery, type DeliveryContext } from './delivery';
import type { Judged } from './judge';

/** What appending to the ledger needs. */
export type RecordContext = Pick<DeliveryContext, 'ledger' | 'actor' | 'observer'> & { readonly product: string };

/** Writes the decision about a delivery into the ledger, deciding again for as long as somebody else is first. */
export async function record<P extends Plan>(
  delivery: Delivery<P>,
  judging: () => Promise<Judged<Verdict<P>>>,
  context: DeliveryContext,
): Promise<Verdict<P>> {
  const { product, environment, items } = delivery;
  return appendDeciding({ ...context, product }, async () => {
    const { value: verdict, head, facts } = await judging();
    const known = isKnown(environment, verdict, facts);
    const action = known ? undefined : delivery.action(verdict, items.map(placed));
    return { head, action, value: verdict };
  });
}

/** Whether the ledger says already what an entry about this would add. */
function isKnown(environment: string, { plan, decisions }: Verdict<Plan>, facts: Facts): boolean {
  const arrived = facts.get('release', plan.release)?.arrived.some((each) => each.environment === environment);
  return arrived === true && isRecorded(tagsToSet(decisions), facts);
}

/**
 * Appends one entry: decides what it says on a head of the ledger, and decides again for as long as
 * somebody else is first. Appends nothing where there is nothing to say.
 */
export async function appendDeciding<T>(
  { ledger, product, actor, observer }: RecordContext,
  decide: () => Promise<{ head: Head; action: Action | undefined; value: T }>,
): Promise<T> {
  for (let attempt = 1; ; attempt += 1) {
    const { head, action, value } = await decide();
    if (action === undefined) {
      return value;
    }
    const sealed = entryAfter(head, { product, at: timestampOf(new Date()), actor, action });
    const milliseconds = await ledger.append([sealed], head);
    if (milliseconds !== undefined) {
      observer.recorded({ seq: sealed.entry.seq, attempt, milliseconds });
      return value;
    }
  }
}
