import type { CommitId } from '../commit';
import type { ServedLine } from '../insight/lines';
import { chainFrom } from '../insight/waiting';
import { lanesOf, servedIn } from '../ledger/environment';
import { withdrawalOf, withdrawnKey, type Release, type ServedComponent, type Withdrawal } from '../ledger/facts';
import { laneName } from '../ledger/lane';
import { contentId } from '../ledger/release';
import type { Digest } from '../oci/digest';
import { decided, factNeed, together, type Decision, type Judgement, type Knowledge } from '../release/knowledge';
import type { Version } from '../tags/version';
import type { Timestamp } from '../time';
import type { HoldingComponent } from './identity';

/** How content stands to an environment. */
export const standings = ['current', 'behind', 'withdrawn', 'held', 'never'] as const;
export type StandingState = (typeof standings)[number];

/** A release as answers name it. */
export interface NamedPosition {
  readonly version: Version | undefined;
  readonly commit: CommitId;
}

/** How a component of some digest stands to an environment. */
export interface EnvironmentStanding {
  readonly environment: string;
  readonly component: string;
  /**
   * `current`: the environment serves it; `behind`: it served it, or had it as the newest of a line; `withdrawn`: the environment was
   * rolled back from it; `held`: it came in, and something newer was there; `never`: it never came in.
   */
  readonly state: StandingState;
  /** The line or branch that it is, or was, the newest of, where it is none of what the environment serves by its own tags. */
  readonly line: string | undefined;
  /** The release that it came with. */
  readonly release: NamedPosition | undefined;
  /** Since when, and until when it was served. */
  readonly since: Timestamp | undefined;
  readonly until: Timestamp | undefined;
  /** What the environment serves of the component now; undefined where that is nothing. */
  readonly serves: (NamedPosition & { readonly digest: Digest }) | undefined;
  /** How many releases took over since; undefined where that was too long ago, or it was never served there. */
  readonly releasesBehind: number | undefined;
  /** Of a release that was withdrawn: who did so, when and why. */
  readonly withdrawn: { readonly by: string; readonly at: Timestamp; readonly reason: string } | undefined;
}

/** An environment, and what it serves on lines beside. */
export interface EnvironmentOfLines {
  readonly environment: string;
  readonly lines: readonly ServedLine[];
}

/** What an environment serves now, and what it served before. */
export interface EnvironmentInView extends EnvironmentOfLines {
  /** For each component what was served, the latest first, and what is served now before all: as far as releases are followed back. */
  readonly served: readonly (readonly ServedComponent[])[];
}

/** Decides what an environment served of each component, as {@link EnvironmentInView} has it. */
export function decideServed(
  environment: string,
  known: Knowledge,
): Judgement<readonly (readonly ServedComponent[])[]> {
  const unknown = known.missing([factNeed('environment', environment)]);
  if (unknown !== undefined) {
    return unknown;
  }
  const all = { isMet: () => false, most: mostFollowed };
  return together(
    servedIn(known.facts, environment).map((served) => {
      const chain = chainFrom(served, environment, all, known);
      return chain.kind === 'decided' ? decided(chain.value.between) : chain;
    }),
  );
}

/** Returns the one of two standings to the same environment that says more of what is served: `current` before all others. */
export function bestOf<T extends Pick<EnvironmentStanding, 'state'>>(one: T, other: T): T {
  return standings.indexOf(other.state) < standings.indexOf(one.state) ? other : one;
}

/** So many releases are followed back. */
const mostFollowed = 128;

/**
 * Finds how a component of some digest stands to an environment.
 *
 * @param names The component, by each name that it has had.
 */
export function decideStanding(
  holding: HoldingComponent<Release>,
  { environment, lines, served: allServed }: EnvironmentInView,
  names: readonly string[],
  known: Knowledge,
): Decision<EnvironmentStanding> {
  const { component, digest, releases } = holding;
  const lacking = known.missing([
    ...releases.map(({ components }) => factNeed('withdrawn', withdrawnKey(environment, contentId(components)))),
  ]);
  if (lacking !== undefined) {
    return lacking;
  }
  const isNamed = (each: { readonly component: string }): boolean =>
    each.component === component || names.includes(each.component);
  const chain = allServed.find(([now]) => now !== undefined && isNamed(now)) ?? [];
  const [served] = chain;
  const own = lines.filter(({ head }) => isNamed(head));
  const nothing = { line: undefined, release: undefined, since: undefined, until: undefined, withdrawn: undefined };
  const base: Omit<EnvironmentStanding, 'state'> = {
    ...{ environment, component, serves: served && headOf(served), releasesBehind: undefined, ...nothing },
  };
  const stays = staysIn(holding, environment, isNamed, known);
  const current = currentStanding(digest, served, own, stays);
  if (current !== undefined) {
    return decided({ ...base, ...current });
  }
  const { way, ...past } = pastStanding(stays, own);
  if (past.state !== 'behind' || past.line !== undefined || way !== 'takes-over') {
    return decided({ ...base, ...past });
  }
  return decided({ ...base, ...past, releasesBehind: releasesSince(chain, digest) });
}

type Found = Pick<EnvironmentStanding, 'state'> & Partial<EnvironmentStanding>;

/**
 * How content stands that is served: by the environment's own tags, or as the newest of a line that it came in beside. What took over
 * once and was replaced is behind, whatever line's newest it still is.
 */
function currentStanding(
  digest: Digest,
  served: ServedComponent | undefined,
  lines: readonly ServedLine[],
  visits: readonly Visit[],
): Found | undefined {
  if (served?.digest === digest) {
    return { state: 'current', release: positionOf(served), since: served.since, releasesBehind: 0 };
  }
  const cameBeside = ({ head }: ServedLine): boolean =>
    visits.some(({ release, stay }) => release.release === head.release && stay.way === 'beside');
  const on = lines.find((line) => line.head.digest === digest && cameBeside(line));
  return on && { state: 'current', line: on.line, release: positionOf(on.head), since: on.head.since };
}

/** How a release came into an environment, and whether it was rolled back there. */
interface Visit {
  readonly release: Release;
  readonly stay: Release['arrived'][number];
  readonly withdrawal: Withdrawal | undefined;
}

function staysIn(
  { releases }: HoldingComponent<Release>,
  environment: string,
  isNamed: (stay: { readonly component: string }) => boolean,
  { facts }: Knowledge,
): Visit[] {
  return releases.flatMap((release) =>
    release.arrived
      .filter((stay) => stay.environment === environment && isNamed(stay))
      .map((stay) => {
        const withdrawal = withdrawalOf(facts, environment, contentId(release.components));
        return { release, stay, withdrawal };
      }),
  );
}

/** How content stands that is not served. */
function pastStanding(
  visits: readonly Visit[],
  lines: readonly ServedLine[],
): Found & { readonly way?: Visit['stay']['way'] } {
  // The latest release of it that came in decides: the same content may have been in others.
  const [visit] = visits.filter(({ stay }) => stay.way !== 'held');
  if (visit?.withdrawal !== undefined) {
    const { by, at, reason } = visit.withdrawal;
    const { since, until = at } = visit.stay;
    return { state: 'withdrawn', release: positionOf(visit.release), since, until, withdrawn: { by, at, reason } };
  }
  if (visit === undefined) {
    const [held] = visits;
    return held === undefined
      ? { state: 'never' }
      : { state: 'held', release: positionOf(held.release), since: held.stay.since };
  }
  const { since, until = visit.stay.left, way } = visit.stay;
  const behind = { state: 'behind' as const, way, release: positionOf(visit.release), since, until };
  const on = way === 'beside' ? lineOf(visit.release, lines) : undefined;
  return on === undefined ? behind : { ...behind, line: on.line, serves: headOf(on.head) };
}

/** How many releases of a component took over since its digest was served. */
function releasesSince(chain: readonly ServedComponent[], digest: Digest): number | undefined {
  const at = chain.findIndex((each) => each.digest === digest);
  return at === -1 ? undefined : new Set(chain.slice(0, at).map((each) => each.release)).size;
}

/** What heads the line of versions, or the branch, that a release came in as the newest of. */
function lineOf(release: Release, lines: readonly ServedLine[]): ServedLine | undefined {
  const lanes = lanesOf(release).map(laneName);
  return lines.find(({ line }) => lanes.includes(line));
}

function headOf(served: ServedComponent): NonNullable<EnvironmentStanding['serves']> {
  return { ...positionOf(served), digest: served.digest };
}

function positionOf({ version, commit }: Pick<Release, 'version' | 'commit'>): NamedPosition {
  return { version, commit };
}
