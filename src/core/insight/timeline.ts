import { formatCount } from '../amounts';
import { shortCommit, type CommitId } from '../commit';
import { repositoryPattern } from '../tags/repository-pattern';
import type { Version } from '../tags/version';
import type { Timestamp } from '../time';
import type { Action } from '../ledger/entries';
import type { SealedEntry } from '../ledger/entry';
import { laneName } from '../ledger/lane';
import type { PlacedComponent, ReleaseId } from '../ledger/release';
import type { ReleaseSet } from '../ledger/release-set';

/** The kinds of events; that receivers were told is none. */
export const eventKinds = [
  'staged',
  'published',
  'promoted',
  'adopted',
  'rolled-back',
  'restored',
  'moved',
  'result',
  'signed-off',
  'referrers',
  'failed',
  'refused',
  'base-moved',
  'rules-accepted',
  'entries-accepted',
  'removing',
  'removed',
  'returned',
  'compacted',
] as const;
export type EventKind = (typeof eventKinds)[number];

/** Something that happened to a product, as its ledger tells it. */
export interface TimelineEvent {
  readonly seq: number;
  readonly at: Timestamp;
  readonly actor: string;
  /** Their identity was checked in that run. */
  readonly proven: boolean;
  readonly kind: EventKind;
  readonly environment: string | undefined;
  readonly version: Version | undefined;
  readonly commit: CommitId | undefined;
  readonly components: readonly string[];
  /** The products that it happened to in one step; undefined where it is this one alone. */
  readonly set: ReleaseSet | undefined;
  /** What else is to be said, in a few words. */
  readonly detail: string;
  /** The releases that it is about. */
  readonly releases: readonly ReleaseId[];
  /** Those that something else took over from then, or that were withdrawn. */
  readonly ended: readonly ReleaseId[];
}

/** Which events are meant; all where nothing is said. */
export interface TimelineFilter {
  readonly environment?: string | undefined;
  /** A component, by each name that it has had. */
  readonly component?: readonly string[] | undefined;
  readonly kind?: EventKind | undefined;
  readonly actor?: string | undefined;
  readonly commit?: CommitId | undefined;
  readonly since?: Timestamp | undefined;
  readonly until?: Timestamp | undefined;
}

/** The event that an entry is; undefined where it is none. */
export function eventIn({ entry }: SealedEntry): TimelineEvent | undefined {
  const { seq, at, actor, proven = false, product, action } = entry;
  const told = tell(action);
  const set = 'set' in action ? action.set : undefined;
  const others = set?.products.filter((each) => each !== product) ?? [];
  return (
    told && {
      seq,
      at,
      actor,
      proven,
      version: undefined,
      commit: undefined,
      components: [],
      releases: [],
      ended: [],
      set,
      ...told,
      detail: [told.detail, ...togetherWith(others)].filter((part) => part !== '').join(', '),
    }
  );
}

/** The most products that one line names. */
const mostNamed = 3;

function togetherWith(others: readonly string[]): string[] {
  const named = others.slice(0, mostNamed).join(', ');
  const more = others.length - mostNamed;
  return others.length === 0 ? [] : [`together with ${named}${more > 0 ? ` and ${more} more` : ''}`];
}

type Told = Pick<TimelineEvent, 'kind' | 'environment' | 'detail'> & Partial<TimelineEvent>;

function tell(action: Action): Told | undefined {
  switch (action.kind) {
    case 'staged':
      return tellStaged(action);
    case 'failed': {
      const { kind, commit, components, reason } = action;
      return { kind, environment: undefined, commit, components, detail: reason };
    }
    case 'published':
    case 'promoted':
    case 'adopted':
      return tellArrival(action);
    case 'rolled-back':
      return tellRollback(action);
    case 'restored':
      return tellRestored(action);
    case 'moved':
      return tellMoved(action);
    case 'result': {
      const { kind, environment, name, passed, link, releases } = action;
      const detail = `${name} ${passed ? 'passed' : 'failed'}${link === undefined ? '' : `, ${link}`}`;
      return { kind, environment, detail, releases: releases.map(({ release }) => release) };
    }
    case 'signed-off': {
      const { kind, environment, releases } = action;
      return { kind, environment, detail: '', releases: releases.map(({ release }) => release) };
    }
    case 'referrers':
      return tellReferrers(action);
    case 'refused': {
      const { kind, environment, command, object, reason } = action;
      return { kind, environment, detail: `${command} of ${object}: ${reason}` };
    }
    case 'base-moved':
      return tellBases(action);
    case 'rules-accepted':
    case 'entries-accepted':
      return tellAccepted(action);
    case 'removing':
    case 'removed':
      return tellTidying(action);
    case 'returned':
      return tellReturned(action);
    case 'compacted':
      return tellCompacted(action);
    case 'announced':
      return undefined;
  }
}

function tellCompacted({ kind, entries, file }: Extract<Action, { kind: 'compacted' }>): Told {
  const detail = `${formatCount(entries, 'entry', 'entries')} of removed releases, into ${file}`;
  return { kind, environment: undefined, detail };
}

function tellAccepted(action: Extract<Action, { kind: 'rules-accepted' | 'entries-accepted' }>): Told {
  if (action.kind === 'entries-accepted') {
    const { kind, from, to, reason } = action;
    return { kind, environment: undefined, detail: `unsigned entries ${from} to ${to}: ${reason}` };
  }
  const { kind, environment, reason, inForce } = action;
  return { kind, environment, detail: `${inForce === true ? 'in force' : 'more people must accept them'}: ${reason}` };
}

function tellReturned({ kind, environment, release, components }: Extract<Action, { kind: 'returned' }>): Told {
  const names = components.map(({ component }) => component);
  return { kind, environment, components: names, releases: [release], detail: 'uploaded again after tidying' };
}

function tellTidying(action: Extract<Action, { kind: 'removing' | 'removed' }>): Told {
  const { kind, environments, contents } = action;
  const [first, ...others] = environments;
  const gone = 'claim' in action ? action.contents.filter(({ removed, digest }) => removed.includes(digest)) : contents;
  const left = contents.length - gone.length;
  const unknown = contents.filter((each) => each.unknown !== undefined).length;
  const detail = [
    formatCount(gone.length, 'digest'),
    ...(left === 0 ? [] : [`${left} could not be removed`]),
    ...environments.map(({ environment, keep }) => `${environment} keeps ${keep}`),
    ...(unknown === 0 ? [] : [`${unknown} unknown to the ledger`]),
  ].join('; ');
  return {
    ...{ kind, detail, environment: others.length === 0 ? first?.environment : undefined },
    components: [...new Set(contents.flatMap(({ components }) => components))],
    releases: [...new Set(contents.flatMap(({ releases }) => releases))],
  };
}

function tellReferrers({ kind, environment, referrers: all }: Extract<Action, { kind: 'referrers' }>): Told {
  const count = all.reduce((sum, { referrers }) => sum + referrers.length, 0);
  return { kind, environment, detail: `${count} brought` };
}

function tellBases({ kind, environment, bases }: Extract<Action, { kind: 'base-moved' }>): Told {
  const names = [...new Set(bases.map(({ name }) => name))];
  const components = [...new Set(bases.map(({ component }) => component))];
  return { kind, environment, components, detail: `built on ${names.join(', ')}, which leads elsewhere now` };
}

/** The release of another product that a component is of. */
function includedIn({ component, included }: PlacedComponent): string[] {
  const name = included?.version ?? (included?.commit && shortCommit(included.commit));
  return included?.product === undefined || name === undefined
    ? []
    : [`includes ${component} of ${included.product} ${name}`];
}

function tellArrival(action: Extract<Action, { kind: 'published' | 'promoted' | 'adopted' }>): Told {
  const {
    kind,
    environment,
    version,
    commit,
    branch,
    release,
    components,
    retires = [],
    replaces = [],
    despite = [],
  } = action;
  const ways = new Set(action.arrivals.map(({ way }) => way));
  const aside = ['beside', 'held'].filter((way) => ways.size > 0 && [...ways].every((each) => each === way));
  const detail = [
    ...(kind === 'published' && branch !== undefined ? [`on ${branch}`] : []),
    ...(action.kind === 'promoted' ? [`from ${action.from}`] : []),
    ...(action.kind === 'adopted' && action.reason !== '' ? [action.reason] : []),
    ...aside,
    ...(kind === 'published' ? components.flatMap(includedIn) : []),
    ...retires.map((component) => `${component} retires`),
    ...despite.map(({ rule, reason }) => `despite ${rule}: ${reason}`),
  ];
  return {
    ...{ kind, environment, version, commit },
    components: components.map(({ component }) => component),
    detail: detail.join(', '),
    releases: [release],
    ended: replaces.filter((each) => each !== release),
  };
}

function tellRollback(action: Extract<Action, { kind: 'rolled-back' }>): Told {
  const { kind, environment, reason, releases, served, lanes, left, withdrawn } = action;
  const changed = left === undefined ? served : lanes.filter(({ lane }) => lane === left.lane);
  const [first] = changed.flatMap(({ is }) => is ?? []);
  return {
    ...{ kind, environment, releases, version: first?.version, commit: first?.commit },
    components: changed.map(({ component }) => component),
    detail: left === undefined ? reason : `line ${laneName(left.lane)}: ${reason}`,
    ended: [...new Set([...withdrawn.map(({ release }) => release), ...(left?.releases ?? [])])],
  };
}

function tellMoved({ kind, environment, places, reason }: Extract<Action, { kind: 'moved' }>): Told {
  const to = unique(places.map(({ component, repository }) => repositoryPattern(repository, component)));
  const what = to.length === 0 ? 'earlier releases were copied' : `to ${to.join(', ')}`;
  return {
    ...{ kind, environment },
    components: places.map(({ component }) => component),
    detail: reason === '' ? what : `${what}: ${reason}`,
  };
}

function tellStaged({ kind, environment, commit, parts }: Extract<Action, { kind: 'staged' }>): Told {
  const platforms = unique(parts.flatMap((part) => part.platforms));
  return {
    ...{ kind, environment, commit },
    components: unique(parts.map(({ component }) => component)),
    detail: platforms.join(' '),
  };
}

function tellRestored({ kind, environment, tags }: Extract<Action, { kind: 'restored' }>): Told {
  const components = unique(tags.map(({ component }) => component));
  return { kind, environment, components, detail: unique(tags.map(({ tag }) => tag)).join(', ') };
}

/** Whether an event is meant. */
export function isMeant(event: TimelineEvent, filter: TimelineFilter): boolean {
  const { environment, component, kind, actor, commit, since, until } = filter;
  return (
    (environment === undefined || event.environment === environment) &&
    (component === undefined || event.components.some((name) => component.includes(name))) &&
    (kind === undefined || event.kind === kind) &&
    (actor === undefined || event.actor === actor) &&
    (commit === undefined || event.commit === commit) &&
    (since === undefined || event.at >= since) &&
    (until === undefined || event.at <= until)
  );
}

/** What an event is in the life of a release; undefined where it has nothing to do with it. */
export function partOf(
  { release, commit }: { readonly release: ReleaseId; readonly commit: CommitId },
  event: TimelineEvent,
): 'its own' | 'its end' | undefined {
  if (event.releases.includes(release) || (event.commit === commit && event.releases.length === 0)) {
    return 'its own';
  }
  return event.ended.includes(release) ? 'its end' : undefined;
}

function unique(texts: readonly string[]): string[] {
  return [...new Set(texts)];
}
