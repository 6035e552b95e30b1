import { HodError } from '../core/errors';
import { everyNameOf } from '../core/build/component';
import { millisecondsOf } from '../core/amounts';
import type { EventKind, TimelineFilter } from '../core/insight/timeline';
import { shortCommit } from '../core/commit';
import type { Release } from '../core/ledger/facts';
import { versionNamed } from '../core/tags/version';
import { timestampOf, type Timestamp } from '../core/time';
import { readEvents, readLife, releaseNamed, releasesIn } from '../inspect/timeline';
import { toLifeResult, toTimelineResult, type TimelineResult } from '../results/timeline';
import { refuseEmpty, withLedger } from '../session/open-ledger';
import { withProduct, type Session, type SessionOptions } from '../session/session';
import { chosenComponents, environmentNamed, type Config } from '../workspace/config';

/** What `timeline` is told. */
export interface TimelineOptions extends SessionOptions {
  /** A release, by its version or commit: its whole life. */
  release?: string | undefined;
  environment?: string | undefined;
  component?: string | undefined;
  kind?: EventKind | undefined;
  actor?: string | undefined;
  /** A time, or how long ago: `24h`. */
  since?: string | undefined;
  until?: string | undefined;
  /** How many events are told; all where undefined. */
  most?: number | undefined;
}

/** The events of the ledger, the newest first; or the life of one release, from its beginning. */
export async function timeline(options: TimelineOptions): Promise<TimelineResult> {
  return withProduct(options, async (config, session) => {
    const filter = readFilter(options, config);
    const { product } = config;
    return withLedger(config, session, 'read', async (ledger) => {
      await refuseEmpty(config, ledger);
      if (options.release !== undefined) {
        const release = await releaseNamed(options.release, config, ledger);
        noteOther(options.release, release, session);
        return toLifeResult(product, release, await readLife(release, filter, ledger));
      }
      const { events, more } = await readEvents(ledger, filter, options.most);
      return toTimelineResult(product, { events, more }, await releasesIn(events, ledger));
    });
  });
}

/** Tells which release the answer is about, where it was named by something else. */
function noteOther(named: string, { version, commit }: Release, { observer }: Session): void {
  if (versionNamed(named) === undefined && !commit.startsWith(named)) {
    observer.note(`${named} is in ${version ?? shortCommit(commit)}: this is the life of that release`);
  }
}

function readFilter(
  { environment, component, kind, actor, since, until }: TimelineOptions,
  config: Config,
): TimelineFilter {
  const now = Date.now();
  return {
    environment: environment === undefined ? undefined : environmentNamed(config, environment).name,
    component: component === undefined ? undefined : namesOf(component, config),
    kind,
    actor,
    since: since === undefined ? undefined : readTime(since, now),
    until: until === undefined ? undefined : readTime(until, now),
  };
}

/** Every name that a component has had, by any of them. Throws `component-unknown`. */
function namesOf(component: string, config: Config): string[] {
  const names = everyNameOf(config.components, component);
  chosenComponents(config, names.slice(0, 1));
  return names;
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
