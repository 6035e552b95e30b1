import { eventOf } from '../core/ledger/announcements';
import type { FactKey } from '../core/ledger/facts';
import type { Ledger } from '../ledger/ledger';
import type { Config } from '../workspace/config';

/** So many entries are looked through for what was not told. */
const lookedThrough = 1_000;

/** What each receiver was not told yet: how many events, up to a thousand entries on, and since when the first of them waits. */
export async function undelivered(
  { receivers }: Config,
  ledger: Pick<Ledger, 'read' | 'entries'>,
): Promise<{ receiver: string; undelivered: number; since: string | null }[]> {
  if (receivers.length === 0) {
    return [];
  }
  const { facts } = await ledger.read(receivers.map(({ name }): FactKey => ({ kind: 'announced', key: name })));
  return Promise.all(
    receivers.map(async ({ name, kinds }) => {
      const from = facts.get('announced', name);
      const waiting: string[] = [];
      if (from !== undefined) {
        for await (const sealed of ledger.entries(from)) {
          const event = eventOf(sealed, kinds);
          waiting.push(...(event === undefined ? [] : [event.time]));
          if (sealed.entry.seq - from.seq >= lookedThrough) {
            break;
          }
        }
      }
      return { receiver: name, undelivered: waiting.length, since: waiting[0] ?? null };
    }),
  );
}
