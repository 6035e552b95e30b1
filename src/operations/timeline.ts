import { shortCommit } from '../core/commit';
import { HodError } from '../core/errors';
import { millisecondsOf } from '../core/duration';
import type { Release } from '../core/ledger/facts';
import { eventIn, isMeant, partOf, type EventKind, type StoryEvent, type StoryFilter } from '../core/insight/timeline';
import { timestampOf, type Timestamp } from '../core/time';
import { findRelease } from '../delivery/sources/choice';
import type { Ledger } from '../ledger/ledger';
import type { TimelineResult } from '../results/timeline';
import { refuseEmpty, withLedger } from '../session/open-ledger';
import { withProduct, type SessionOptions } from '../session/session';
import { toEvent, toEvents } from './events';
import { chosenComponents, environmentNamed, type Config } from '../workspace/config';

/** What `timeline` is told. */
export interface TimelineOptions extends SessionOptions {
  /** A release, by its version or commit: its whole life. */
  release?: string | undefined;
  environment?: string | undefined;
  image?: string | undefined;
  kind?: EventKind | undefined;
  actor?: string | undefined;
  /** A time, or how long ago: `24h`. */
  since?: string | undefined;
  until?: string | undefined;
  /** How many events are told; all where undefined. */
  most?: number | undefined;
}

/** The ledger as a story, the newest first; or the life of one release, from its beginning. */
export async function timeline(options: TimelineOptions): Promise<TimelineResult> {
  return withProduct(options, async (config, session) => {
    const filter = readFilter(options, config);
    return withLedger(config, session, 'read', async (ledger) => {
      await refuseEmpty(config, ledger);
      const release = options.release === undefined ? undefined : await releaseNamed(options.release, config, ledger);
      if (release !== undefined) {
        return lifeOf(release, filter, config.product, ledger);
      }
      const { events, more } = await newest(ledger, filter, options.most);
      return { product: config.product, release: null, more, events: await toEvents(events, ledger) };
    });
  });
}

function readFilter({ environment, image, kind, actor, since, until }: TimelineOptions, config: Config): StoryFilter {
  const now = Date.now();
  return {
    environment: environment === undefined ? undefined : environmentNamed(config, environment).name,
    image: image === undefined ? undefined : chosenComponents(config, [image])[0]?.name,
    kind,
    actor,
    since: since === undefined ? undefined : readTime(since, now),
    until: until === undefined ? undefined : readTime(until, now),
  };
}

/** A time as people write it: how long ago, or a date and perhaps a time. Throws `not-a-time`. */
function readTime(text: string, now: number): Timestamp {
  const ago = millisecondsOf(text);
  const time = Number.isNaN(ago) ? Date.parse(text) : now - ago;
  if (Number.isNaN(time)) {
    throw new HodError('not-a-time', {
      what: 'this is no time',
      object: text,
      why: 'it must be how long ago, or a date',
      next: 'write 24h, 7d, 2026-11-20 or 2026-11-20T16:00Z',
    });
  }
  return timestampOf(new Date(time));
}

async function releaseNamed(text: string, { folder }: Config, ledger: Pick<Ledger, 'read'>): Promise<Release> {
  const release = await findRelease(text, folder, ledger);
  if (release === undefined) {
    throw new HodError('never-published', {
      what: 'this was never published',
      object: text,
      why: 'the ledger has no release of it',
      next: '`hod timeline` without it lists what was',
    });
  }
  return release;
}

/** How many entries are read at first, and how many times as many each time that this was not enough. */
const [firstRead, growth] = [256, 4];

/** The newest events that are meant, the newest first: read from the end of the ledger, as far back as that takes. */
async function newest(
  ledger: Ledger,
  filter: StoryFilter,
  most = Infinity,
): Promise<{ events: StoryEvent[]; more: boolean }> {
  const { head } = await ledger.read([]);
  let found: StoryEvent[] = [];
  let end = head.seq;
  for (let count = firstRead; end > 0 && found.length <= most; count *= growth) {
    const begin = Math.max(0, end - count);
    const part: StoryEvent[] = [];
    let isOld = false;
    for await (const sealed of ledger.entries({ seq: begin, hash: undefined })) {
      if (sealed.entry.seq > end) {
        break;
      }
      isOld ||= filter.since !== undefined && sealed.entry.at < filter.since;
      const event = eventIn(sealed);
      if (event !== undefined && isMeant(event, filter)) {
        part.push(event);
      }
    }
    found = [...found, ...part.reverse()];
    end = isOld ? 0 : begin;
  }
  return { events: found.slice(0, most), more: found.length > most };
}

async function lifeOf(release: Release, filter: StoryFilter, product: string, ledger: Ledger): Promise<TimelineResult> {
  const events: TimelineResult['events'] = [];
  let last: string | undefined;
  for await (const sealed of ledger.entries()) {
    const event = eventIn(sealed);
    const part = event && partOf(release, event);
    if (event !== undefined && part !== undefined && isMeant(event, filter)) {
      const after = last === undefined ? null : Date.parse(event.at) - Date.parse(last);
      events.push({ ...toEvent(event, new Map([[release.release, release]])), ...turnIn(part, event), after });
      last = event.at;
    }
  }
  const { version, commit } = release;
  return { product, release: { version: version ?? null, commit }, more: false, events };
}

/** What an event is to a release, where that is something else than it is to the product. */
function turnIn(
  part: 'its own' | 'its end',
  { kind, version, commit, detail }: StoryEvent,
): Partial<Pick<TimelineResult['events'][number], 'kind' | 'detail'>> {
  if (kind === 'rolled-back') {
    return { kind: part === 'its own' ? 'returned' : 'withdrawn' };
  }
  const other = version ?? (commit === undefined ? 'something else' : shortCommit(commit));
  return part === 'its own'
    ? {}
    : { kind: 'replaced', detail: `${other} took over${detail === '' ? '' : `, ${detail}`}` };
}
