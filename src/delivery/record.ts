import type { Action } from '../core/release/actions';
import { entryAfter, type Head } from '../core/release/entry';
import type { Facts } from '../core/release/facts';
import { isRecorded, tagsToSet } from '../core/release/tag-decisions';
import { tellingOnce } from '../core/retrying';
import type { Plan, Verdict } from '../core/release/verdict';
import { timestampOf } from '../core/time';
import { contended } from '../ledger/problems';
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

/** How long others may be first, in milliseconds. */
const patience = 180_000;

/**
 * Appends one entry: decides what it says on a head of the ledger, and decides again for as long as
 * somebody else is first. Appends nothing where there is nothing to say.
 *
 * Throws `ledger-contended` where others are first for minutes.
 */
export async function appendDeciding<T>(
  { ledger, product, actor, observer }: RecordContext,
  decide: () => Promise<{ head: Head; action: Action | undefined; value: T }>,
): Promise<T> {
  const begun = performance.now();
  const notice = tellingOnce((text) => observer.waiting(text));
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
    const waited = performance.now() - begun;
    if (waited > patience) {
      throw contended(product, `others were first ${attempt} times, for ${Math.round(waited / 1000)} s`);
    }
    notice(waited, `waiting for a turn in the ledger of ${product}: others were first ${attempt} times`);
  }
}
