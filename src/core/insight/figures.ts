import type { CommitId } from '../commit';
import type { Version } from '../tags/version';
import { weekOf, type Timestamp } from '../time';
import type { SealedEntry } from '../ledger/entry';
import type { PlacedComponent, ReleaseId, ReleaseImage } from '../ledger/release';
import type { Way } from '../ledger/way';

/** How a release came into an environment for the first time: the best that became of any of its components. */
export interface ReleaseArrival {
  readonly environment: string;
  readonly at: Timestamp;
  readonly way: Way;
  /** It was there before the ledger began: when it came is not known. */
  readonly adopted: boolean;
}

/** A release, and what became of it. */
export interface ReleaseLife {
  readonly release: ReleaseId;
  readonly version: Version | undefined;
  readonly commit: CommitId;
  readonly branch: string | undefined;
  /** As they were first published. */
  readonly components: readonly PlacedComponent[];
  /** Every image in them. */
  readonly images: readonly ReleaseImage[];
  /** When the first of it was staged, where something was staged before it was published. */
  readonly staged: Timestamp | undefined;
  readonly arrivals: ReleaseArrival[];
  /** Where it was rolled back. */
  readonly withdrawn: { readonly environment: string; readonly at: Timestamp; readonly reason: string }[];
}

/** What a ledger tells of releases: entries are added in their order. */
export class ReleaseHistory {
  /** The oldest first. */
  readonly releases = new Map<ReleaseId, ReleaseLife>();
  /** Each publication or promotion, as one that was decided together. */
  readonly deliveries: { readonly environment: string; readonly at: Timestamp }[] = [];
  private readonly staged = new Map<CommitId, Timestamp>();

  add({ entry: { action, at } }: SealedEntry): void {
    switch (action.kind) {
      case 'staged':
        this.staged.set(action.commit, this.staged.get(action.commit) ?? at);
        break;
      case 'published':
      case 'promoted':
      case 'adopted': {
        const { release, version, commit, branch, components, environment, together } = action;
        const life = this.releases.get(release) ?? {
          ...{
            release,
            version,
            commit,
            branch,
            components,
            images: (action.kind === 'promoted' ? undefined : action.images) ?? [],
            staged: this.staged.get(commit),
            arrivals: [],
            withdrawn: [],
          },
        };
        this.releases.set(release, life);
        const adopted = action.kind === 'adopted';
        if (together !== true && !adopted) {
          this.deliveries.push({ environment, at });
        }
        const ways = action.arrivals.map(({ way }) => way);
        const way = (['takes-over', 'beside'] as const).find((each) => ways.includes(each)) ?? 'held';
        const earlier = life.arrivals.findIndex((each) => each.environment === environment);
        if (earlier === -1) {
          life.arrivals.push({ environment, at, way, adopted });
        } else if (life.arrivals[earlier]?.way === 'held') {
          life.arrivals[earlier] = { environment, at, way, adopted };
        }
        break;
      }
      case 'rolled-back':
        for (const { release } of action.withdrawn) {
          this.releases.get(release)?.withdrawn.push({ environment: action.environment, at, reason: action.reason });
        }
        break;
      default:
        break;
    }
  }
}

/** How values lie: the one in the middle, and those that a quarter of them lie below and above; milliseconds. */
export interface Spread {
  readonly count: number;
  readonly lower: number;
  readonly median: number;
  readonly upper: number;
}

/** What became of releases in an environment. */
export interface EnvironmentFigures {
  readonly environment: string;
  /** How many releases came in, whether they took over or came beside. */
  readonly releases: number;
  /** How many of them were rolled back. */
  readonly withdrawn: number;
  /** Publications or promotions by week, each by its Monday (UTC); weeks without any are left out. */
  readonly weeks: readonly { readonly week: string; readonly count: number }[];
  /** From the commit until a release came in, where git knows when that was; undefined where it knows none. */
  readonly sinceCommit: Spread | undefined;
  /** From its publication in the first environment until it came in; undefined in the first one. */
  readonly sincePublished: Spread | undefined;
}

/** What the releases of a product add up to. */
export interface Figures {
  readonly environments: readonly EnvironmentFigures[];
  /** From the first staging of a build to its publication: how long publishing took in it; undefined where nothing was staged. */
  readonly publishing: Spread | undefined;
}

/** Adds up. `committed`: when commits were made, as far as git knows. */
export function figuresOf(
  { releases, deliveries }: ReleaseHistory,
  environments: readonly string[],
  committed: ReadonlyMap<CommitId, Timestamp>,
): Figures {
  const all = [...releases.values()];
  const [first] = environments;
  const arrivedIn = ({ arrivals }: ReleaseLife, environment: string | undefined) =>
    arrivals.find((each) => each.environment === environment && each.way !== 'held' && !each.adopted);
  return {
    environments: environments.map((environment) => {
      const here = all.flatMap((life) => {
        const arrival = arrivedIn(life, environment);
        return arrival === undefined ? [] : [{ life, at: arrival.at, published: arrivedIn(life, first)?.at }];
      });
      return {
        environment,
        releases: here.length,
        withdrawn: here.filter(({ life }) => life.withdrawn.some((each) => each.environment === environment)).length,
        weeks: byWeek(deliveries.filter((each) => each.environment === environment).map(({ at }) => at)),
        sinceCommit: spreadOf(here.flatMap(({ life, at }) => between(committed.get(life.commit), at))),
        sincePublished:
          environment === first ? undefined : spreadOf(here.flatMap(({ at, published }) => between(published, at))),
      };
    }),
    publishing: spreadOf(all.flatMap((life) => between(life.staged, arrivedIn(life, first)?.at))),
  };
}

/** The milliseconds between two moments that are known; none where the clocks of two machines contradict each other. */
function between(from: Timestamp | undefined, to: Timestamp | undefined): number[] {
  const span = from === undefined || to === undefined ? NaN : Date.parse(to) - Date.parse(from);
  return span >= 0 ? [span] : [];
}

/** Quartiles, between values in proportion, as SQL's `percentile_cont` has them; undefined for no values. */
export function spreadOf(values: readonly number[]): Spread | undefined {
  const sorted = [...values].sort((a, b) => a - b);
  const at = (share: number): number => {
    const place = (sorted.length - 1) * share;
    const [below, above] = [sorted[Math.floor(place)] ?? 0, sorted[Math.ceil(place)] ?? 0];
    return below + (above - below) * (place - Math.floor(place));
  };
  return sorted.length === 0 ? undefined : { count: sorted.length, lower: at(0.25), median: at(0.5), upper: at(0.75) };
}

/** Counts moments by their weeks. */
function byWeek(moments: readonly Timestamp[]): EnvironmentFigures['weeks'] {
  const counts = new Map<string, number>();
  for (const week of moments.map(weekOf)) {
    counts.set(week, (counts.get(week) ?? 0) + 1);
  }
  return [...counts].sort(([a], [b]) => (a < b ? -1 : 1)).map(([week, count]) => ({ week, count }));
}
