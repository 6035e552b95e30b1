import type { CommitId } from '../commit';
import { chainFrom } from '../insight/waiting';
import { servedIn, stayIn } from '../ledger/environment';
import { stepKey, withdrawalOf, withdrawnKey, type Release, type ServedComponent } from '../ledger/facts';
import { contentId } from '../ledger/release';
import { decided, factNeed, together, type Decision, type Knowledge } from '../release/knowledge';
import type { Timestamp } from '../time';
import type { EnvironmentOfLines, NamedPosition } from './standing';

export const reachStates = ['in', 'was-in', 'not-in', 'unknown'] as const;

/** Whether a commit contains the one that is asked about; undefined where git here cannot tell. */
export type Contains = (commit: CommitId) => boolean | undefined;

/** How a commit stands to what an environment serves of a component. */
export interface CommitReach {
  readonly environment: string;
  readonly component: string;
  /**
   * `in`: what is served contains it; `was-in`: it did, and was replaced or rolled back; `not-in`: nothing so far did; `unknown`: git
   * here cannot tell.
   */
  readonly state: (typeof reachStates)[number];
  /** The line or branch whose newest contains it, where what is served by the environment's own tags does not. */
  readonly line: string | undefined;
  /** What is served now. */
  readonly serves: NamedPosition;
  /** The release that brought it, and when. */
  readonly release: NamedPosition | undefined;
  readonly since: Timestamp | undefined;
  /** Of what was rolled back: who did so, when and why. */
  readonly withdrawn: { readonly by: string; readonly at: Timestamp; readonly reason: string } | undefined;
}

/** So many releases are followed back. */
const mostFollowed = 128;

/** A commit that is asked about: what contains it, and the releases that do. */
export interface AskedCommit {
  readonly contains: Contains;
  readonly releases: readonly Release[];
}

/** Finds which of the components that an environment serves contain a commit. */
export function decideReach(
  { environment, lines }: EnvironmentOfLines,
  asked: AskedCommit,
  known: Knowledge,
): Decision<readonly CommitReach[]> {
  const unknown = known.missing([factNeed('environment', environment)]);
  if (unknown !== undefined) {
    return unknown;
  }
  return together(
    servedIn(known.facts, environment).map((served) => {
      const beside = lines.filter(
        ({ head }) => head.component === served.component && asked.contains(head.commit) === true,
      );
      const own = reachOf(served, environment, asked, known);
      const [line] = beside;
      return own.kind === 'decided' && own.value.state !== 'in' && line !== undefined
        ? decided({ ...own.value, ...on(line.head), state: 'in' as const, line: line.line, withdrawn: undefined })
        : own;
    }),
  );
}

function reachOf(
  served: ServedComponent,
  environment: string,
  { contains, releases }: AskedCommit,
  known: Knowledge,
): Decision<CommitReach> {
  const { component, version, commit } = served;
  const base = {
    ...{ environment, component, serves: { version, commit }, line: undefined },
    ...{ release: undefined, since: undefined, withdrawn: undefined },
  };
  const isIn = contains(commit);
  const isOther = (each: ServedComponent): boolean => (contains(each.commit) === true) !== (isIn === true);
  const chain = chainFrom(served, environment, { isMet: isOther, most: mostFollowed }, known);
  if (chain.kind !== 'decided') {
    return chain;
  }
  const { found, between } = chain.value;
  if (isIn === true) {
    const first = between.at(-1) ?? served;
    // The same content may be there for longer than the release.
    const step = known.facts.get('step', stepKey(environment, first.step));
    return decided({ ...base, ...on(first), since: step?.at ?? first.since, state: 'in' });
  }
  const left = withdrawnFrom(releases, served, environment, known);
  if (left.kind !== 'decided') {
    return left;
  }
  if (left.value !== undefined) {
    return decided({ ...base, ...left.value, state: 'was-in' });
  }
  return found === undefined
    ? decided({ ...base, state: isIn === undefined ? 'unknown' : 'not-in' })
    : decided({ ...base, ...on(found), state: 'was-in' });
}

/** Finds the release that an environment was rolled back from: what it serves since does not tell of that. */
function withdrawnFrom(
  releases: readonly Release[],
  { component }: ServedComponent,
  environment: string,
  known: Knowledge,
): Decision<Pick<CommitReach, 'release' | 'since' | 'withdrawn'> | undefined> {
  const came = releases.flatMap((release) => {
    const stay = stayIn(release, environment, component);
    return stay === undefined || stay.way === 'held' ? [] : [{ release, since: stay.since }];
  });
  const keys = came.map(({ release }) => withdrawnKey(environment, contentId(release.components)));
  const unknown = known.missing(keys.map((key) => factNeed('withdrawn', key)));
  if (unknown !== undefined) {
    return unknown;
  }
  const [last] = came
    .flatMap(({ release, since }) => {
      const found = withdrawalOf(known.facts, environment, contentId(release.components));
      return found === undefined ? [] : [{ release, since, found }];
    })
    .sort((a, b) => b.found.at.localeCompare(a.found.at));
  return decided(
    last && {
      ...on({ ...last.release, since: last.since }),
      withdrawn: { by: last.found.by, at: last.found.at, reason: last.found.reason },
    },
  );
}

function on({ version, commit, since }: Pick<ServedComponent, 'version' | 'commit' | 'since'>) {
  return { release: { version, commit }, since };
}

/** The first of some releases that holds a component, as {@link firstPublished} tells. */
export function firstRelease(releases: readonly Release[], component: string): Release | undefined {
  const holding = releases.filter(({ components }) => components.some((each) => each.component === component));
  return firstPublished(holding);
}

/** The first of some releases, by when they were published; one that took over somewhere goes before others. */
export function firstPublished(releases: readonly Release[]): Release | undefined {
  const weight = ({ arrived }: Release): number => (arrived.some(({ way }) => way === 'takes-over') ? 0 : 1);
  return [...releases].sort((a, b) => weight(a) - weight(b) || a.at.localeCompare(b.at))[0];
}
