import * as z from 'zod';
import { eventKinds, type TimelineEvent } from '../core/insight/timeline';
import type { Release } from '../core/ledger/facts';
import { releaseSetSchema } from '../core/ledger/release-set';
import type { LifeEvent } from '../inspect/timeline';

export const timelineResultSchema = z.strictObject({
  product: z.string(),
  /** The release whose life it is; null where the timeline is of the whole product. */
  release: z.strictObject({ version: z.string().nullable(), commit: z.string() }).nullable(),
  /** Whether there are older events that are meant. */
  more: z.boolean(),
  /** The newest first; of a release, from its beginning. */
  events: z.array(
    z.strictObject({
      /** The number of the entry. */
      seq: z.number().int(),
      at: z.string(),
      /**
       * In the life of a release, `replaced`: another release took over; `withdrawn`: it was rolled back; `returned`: it is served
       * again, because another release was rolled back.
       */
      kind: z.enum([...eventKinds, 'replaced', 'withdrawn', 'returned']),
      environment: z.string().nullable(),
      version: z.string().nullable(),
      commit: z.string().nullable(),
      components: z.array(z.string()),
      actor: z.string(),
      /** Whether a token service checked who that is; else it is what somebody said. */
      proven: z.boolean(),
      /** The products that one command promoted or rolled back in one step; null where it is this one alone. */
      set: releaseSetSchema.nullable(),
      detail: z.string(),
      /** Milliseconds since the event before, in the life of a release. */
      after: z.number().nullable(),
    }),
  ),
});
export type TimelineResult = z.infer<typeof timelineResultSchema>;

type EventResult = TimelineResult['events'][number];

/** Events of a product, as a document. `known`: releases by their ids. */
export function toTimelineResult(
  product: string,
  { events, more }: { readonly events: readonly TimelineEvent[]; readonly more: boolean },
  known: ReadonlyMap<string, Release>,
): TimelineResult {
  return { product, release: null, more, events: events.map((each) => toEvent(each, known)) };
}

/** The life of a release, as a document. */
export function toLifeResult(product: string, release: Release, events: readonly LifeEvent[]): TimelineResult {
  const { version, commit } = release;
  const known = new Map([[release.release, release]]);
  return {
    product,
    release: { version: version ?? null, commit },
    more: false,
    events: events.map((each) => ({ ...toEvent(each, known), after: each.after ?? null })),
  };
}

/** An event, as documents have it. `known`: releases by their ids. */
export function toEvent(event: TimelineEvent | LifeEvent, known: ReadonlyMap<string, Release>): EventResult {
  const { seq, at, actor, proven, kind, environment, components, set, detail, releases } = event;
  const [first] = releases.flatMap((id) => known.get(id) ?? []);
  return {
    ...{ seq, at, actor, proven, kind, detail },
    environment: environment ?? null,
    set: set ?? null,
    version: event.version ?? (event.commit === undefined ? first?.version : undefined) ?? null,
    commit: event.commit ?? first?.commit ?? null,
    components: [...components],
    after: null,
  };
}
