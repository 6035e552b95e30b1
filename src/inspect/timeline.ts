import { shortCommit } from '../core/commit';
import { HodError } from '../core/errors';
import {
  eventIn,
  isMeant,
  partOf,
  type EventKind,
  type TimelineEvent,
  type TimelineFilter,
} from '../core/insight/timeline';
import { compactedKey, type FactKey, type Release } from '../core/ledger/facts';
import { identifyDigest, isDigestText } from './identify-digest';
import { firstPublished } from '../core/identify/reach';
import { findRelease } from '../delivery/sources/choice';
import type { Ledger } from '../ledger/ledger';
import type { Config } from '../workspace/config';
import { commitNamed, descendantsOf } from '../workspace/git';
import { releasesOf } from './containing';

/**
 * Finds a release by its version or commit, by the digest of something that it holds (of several, the latest), or by a commit that
 * it contains (of several, the first).
 *
 * @throws {@link HodError} `never-published`
 */
export async function releaseNamed(text: string, { folder }: Config, ledger: Pick<Ledger, 'read'>): Promise<Release> {
  const named = await findRelease(text, folder, ledger);
  const held = named === undefined && isDigestText(text) ? await identifyDigest(text, ledger) : undefined;
  const holding = held?.kind === 'known' ? held.identity.components[0]?.releases[0] : undefined;
  const release = named ?? holding ?? (await firstContaining(text, folder, ledger));
  if (release === undefined) {
    throw new HodError('never-published', {
      what: 'this was never published',
      object: text,
      why:
        held?.kind === 'ambiguous'
          ? `several digests begin so: ${held.digests.join(', ')}`
          : 'the ledger has no release of it, and none that contains it',
      next: '`hod timeline` without it lists what was',
    });
  }
  return release;
}

/** The first release that contains a commit which was not published itself. */
async function firstContaining(
  text: string,
  folder: string,
  ledger: Pick<Ledger, 'read'>,
): Promise<Release | undefined> {
  const named = await commitNamed(folder, text);
  return 'id' in named
    ? firstPublished(await releasesOf([...(await descendantsOf(folder, named.id, [])).commits], ledger))
    : undefined;
}

/** How many entries are read at first, and how many times as many each time that this was not enough. */
const [firstRead, growth] = [256, 4];

/** Reads the newest events that are meant, the newest first: from the end of the ledger, as far back as that takes. */
export async function readEvents(
  ledger: Ledger,
  filter: TimelineFilter,
  most = Infinity,
): Promise<{ events: TimelineEvent[]; more: boolean }> {
  const { head } = await ledger.read([]);
  let found: TimelineEvent[] = [];
  let end = head.seq;
  for (let count = firstRead; end > 0 && found.length <= most; count *= growth) {
    const begin = Math.max(0, end - count);
    const part: TimelineEvent[] = [];
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

/** An event in the life of a release. */
export interface LifeEvent extends Omit<TimelineEvent, 'kind'> {
  /**
   * `replaced`: something else took over; `withdrawn`: the environment was rolled back from it; `returned`: it is served again,
   * as something else was withdrawn.
   */
  readonly kind: EventKind | 'replaced' | 'withdrawn' | 'returned';
  /** Milliseconds since the event before; undefined for the first. */
  readonly after: number | undefined;
}

/** Reads the life of a release, from its beginning. Throws `entries-compacted` where its entries were moved into a file. */
export async function readLife(release: Release, filter: TimelineFilter, ledger: Ledger): Promise<LifeEvent[]> {
  const events: LifeEvent[] = [];
  let last: string | undefined;
  let isTold = false;
  for await (const sealed of ledger.entries()) {
    const event = eventIn(sealed);
    const part = event && partOf(release, event);
    isTold ||= part !== undefined;
    if (event !== undefined && part !== undefined && isMeant(event, filter)) {
      const after = last === undefined ? undefined : Date.parse(event.at) - Date.parse(last);
      events.push({ ...event, ...turnIn(part, event), after });
      last = event.at;
    }
  }
  if (!isTold) {
    await refuseCompacted(release, ledger);
  }
  return events;
}

async function refuseCompacted({ version, commit }: Release, ledger: Pick<Ledger, 'read'>): Promise<void> {
  const { facts } = await ledger.read([compactedKey]);
  const files = facts.get('compacted', compactedKey.key)?.files ?? [];
  if (files.length > 0) {
    throw new HodError('entries-compacted', {
      what: 'the entries of this release were moved from the ledger into a file',
      object: version ?? shortCommit(commit),
      why: `tidying had removed it everywhere, and \`hod ledger compact\` moved such entries into ${files.map(({ file }) => file).join(', ')}`,
      next: `look for ${commit} in that file: each line is an entry`,
    });
  }
}

/** What an event is to a release, where that is something else than it is to the product. */
function turnIn(
  part: 'its own' | 'its end',
  { kind, version, commit, detail }: TimelineEvent,
): Partial<Pick<LifeEvent, 'kind' | 'detail'>> {
  if (kind === 'rolled-back') {
    return { kind: part === 'its own' ? 'returned' : 'withdrawn' };
  }
  const other = version ?? (commit === undefined ? 'something else' : shortCommit(commit));
  return part === 'its own'
    ? {}
    : { kind: 'replaced', detail: `${other} took over${detail === '' ? '' : `, ${detail}`}` };
}

/** Reads the releases that events name by their ids alone: evidence does, and people name releases by their versions. */
export async function releasesIn(
  events: readonly TimelineEvent[],
  ledger: Pick<Ledger, 'read'>,
): Promise<ReadonlyMap<string, Release>> {
  const ids = [...new Set(events.filter(({ commit }) => commit === undefined).flatMap(({ releases }) => releases))];
  const { facts } = await ledger.read(ids.map((key): FactKey => ({ kind: 'release', key })));
  return new Map(
    ids.flatMap((id): [string, Release][] => {
      const release = facts.get('release', id);
      return release === undefined ? [] : [[id, release]];
    }),
  );
}
