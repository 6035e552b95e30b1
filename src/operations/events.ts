import type { FactKey, Release } from '../core/ledger/facts';
import type { StoryEvent } from '../core/insight/timeline';
import type { Ledger } from '../ledger/ledger';
import type { TimelineResult } from '../results/timeline';

type EventResult = TimelineResult['events'][number];

/** Events as documents tell them. Evidence names releases by their ids, and people name them by their versions. */
export async function toEvents(events: readonly StoryEvent[], ledger: Pick<Ledger, 'read'>): Promise<EventResult[]> {
  const ids = [...new Set(events.filter(({ commit }) => commit === undefined).flatMap(({ releases }) => releases))];
  const { facts } = await ledger.read(ids.map((key): FactKey => ({ kind: 'release', key })));
  const known = new Map(
    ids.flatMap((id): [string, Release][] => {
      const release = facts.get('release', id);
      return release === undefined ? [] : [[id, release]];
    }),
  );
  return events.map((each) => toEvent(each, known));
}

/** An event as documents tell it. `known`: releases by their ids. */
export function toEvent(event: StoryEvent, known: ReadonlyMap<string, Release>): EventResult {
  const { seq, at, actor, proven, kind, environment, images, detail, releases } = event;
  const [first] = releases.flatMap((id) => known.get(id) ?? []);
  return {
    ...{ seq, at, actor, proven, kind, detail },
    environment: environment ?? null,
    version: event.version ?? (event.commit === undefined ? first?.version : undefined) ?? null,
    commit: event.commit ?? first?.commit ?? null,
    images: [...images],
    after: null,
  };
}
