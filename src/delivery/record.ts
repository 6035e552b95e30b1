import type { Action } from '../core/release/actions';
import { entryAfter, headAfter, type Entry, type Head, type SealedEntry } from '../core/release/entry';
import { tellingOnce } from '../core/retrying';
import { isKnown, type Plan, type Verdict } from '../core/release/verdict';
import { timestampOf } from '../core/time';
import { contended } from '../ledger/problems';
import { placed, type Delivery, type DeliveryContext } from './delivery';
import type { Judged } from './judge';

/** What appending to the ledger needs. */
export type RecordContext = Pick<DeliveryContext, 'ledger' | 'actor' | 'observer'> & { readonly product: string };

/** What was decided, and whether entries were appended that say so; none where the ledger said it before. */
export interface Appended<T> {
  readonly value: T;
  readonly appended: boolean;
}

/** Writes the decision about a delivery into the ledger, deciding again for as long as somebody else is first. */
export async function record<P extends Plan>(
  delivery: Delivery<P>,
  judging: () => Promise<Judged<readonly Verdict<P>[]>>,
  context: DeliveryContext,
): Promise<Appended<readonly Verdict<P>[]>> {
  const { product, environment, items } = delivery;
  return appendDeciding({ ...context, product }, async () => {
    const { value: verdicts, head, facts } = await judging();
    const actions = verdicts
      .filter((verdict) => !isKnown(environment, verdict, facts))
      .map((verdict, at) => {
        const own = items.filter(({ image }) => verdict.comings.some((coming) => coming.image === image));
        return delivery.action(verdict, own.map(placed), at > 0);
      });
    return { head, actions, value: verdicts };
  });
}

/** How long others may be first, in milliseconds. */
const patience = 180_000;

/**
 * Appends entries, all at once or none: decides what they say on a head of the ledger, and decides
 * again for as long as somebody else is first. Appends nothing where there is nothing to say.
 *
 * Throws `ledger-contended` where others are first for minutes.
 */
export async function appendDeciding<T>(
  { ledger, product, actor, observer }: RecordContext,
  decide: () => Promise<{ head: Head; actions: readonly Action[]; value: T }>,
): Promise<Appended<T>> {
  const begun = performance.now();
  const notice = tellingOnce((text) => observer.waiting(text));
  for (let attempt = 1; ; attempt += 1) {
    const { head, actions, value } = await decide();
    const sealed = entriesAfter(head, actions, { product, at: timestampOf(new Date()), actor });
    const last = sealed.at(-1);
    if (last === undefined) {
      return { value, appended: false };
    }
    const milliseconds = await ledger.append(sealed, head);
    if (milliseconds !== undefined) {
      observer.recorded({ seq: last.entry.seq, attempt, milliseconds });
      return { value, appended: true };
    }
    const waited = performance.now() - begun;
    if (waited > patience) {
      throw contended(product, `others were first ${attempt} times, for ${Math.round(waited / 1000)} s`);
    }
    notice(waited, `waiting for a turn in the ledger of ${product}: others were first ${attempt} times`);
  }
}

/** Entries that follow each other. */
function entriesAfter(
  head: Head,
  actions: readonly Action[],
  circumstances: Pick<Entry, 'product' | 'at' | 'actor'>,
): SealedEntry[] {
  const sealed: SealedEntry[] = [];
  for (const action of actions) {
    const before = sealed.at(-1);
    sealed.push(entryAfter(before === undefined ? head : headAfter(before), { ...circumstances, action }));
  }
  return sealed;
}
