import { formatAge, formatCount, formatMoment, formatSpan } from '../core/amounts';
import { grouped } from '../core/grouped';
import type { StatusResult } from './status';

type Environment = StatusResult['environments'][number];
export type ServedResult = Environment['components'][number];
type Waiting = NonNullable<Environment['waiting']>;

/** One component, or several that stand alike everywhere: what each environment serves of them, in their order. */
export interface StatusRow {
  readonly components: readonly string[];
  /** The one that has been served for longest. */
  readonly cells: readonly (ServedResult | undefined)[];
}

/** A release as people name it: its version, or the beginning of its commit. */
export function releaseName({ version, commit }: Pick<ServedResult, 'version' | 'commit'>): string {
  return version ?? commit.slice(0, 12);
}

/** How long ago a release came; of one that was there before the ledger began, how long ago that was recorded. */
export function servedAge({ since, adopted }: Pick<ServedResult, 'since' | 'adopted'>, now: Date): string {
  const age = formatAge(since, now);
  return adopted ? `adopted ${age}` : age;
}

/** Whether a registry certainly serves something else than the ledger says. */
export function hasDrifted({ drift: { state } }: Pick<ServedResult, 'drift'>): boolean {
  return state === 'drifted' || state === 'unfinished';
}

/** What runs of a component, in words: `2.3.0 behind`; undefined where it is what is served, or nobody said what runs. */
export function runsInstead({ runs }: Pick<ServedResult, 'runs'>): string | undefined {
  if (runs === null) {
    return undefined;
  }
  const others = runs.filter(({ verdict }) => verdict !== 'current');
  const names = others.map(({ verdict, version, commit }) => `${version ?? commit?.slice(0, 12) ?? ''} ${verdict}`);
  return runs.length === 0 ? 'nothing' : names.length === 0 ? undefined : [...new Set(names)].join(', ');
}

/** Whether a text says that something else runs than is served; what it does not name may run nevertheless. */
export function runsOtherwise({ environments }: StatusResult): boolean {
  return environments.some(
    ({ components, runsBeside }) =>
      (runsBeside ?? []).length > 0 ||
      components.some((each) => (each.runs ?? []).length > 0 && runsInstead(each) !== undefined),
  );
}

/** What differs comes first. `each`: a row for every component; else those that stand alike everywhere share one. */
export function statusRows(environments: readonly Environment[], { each }: { readonly each: boolean }): StatusRow[] {
  const names = [...new Set(environments.flatMap(({ components }) => components.map(({ component }) => component)))];
  const found = environments.map(
    ({ components }) => new Map(components.map((component) => [component.component, component])),
  );
  const all = names.map((component): StatusRow => ({
    components: [component],
    cells: found.map((served) => served.get(component)),
  }));
  const rows = each
    ? all
    : grouped(all, ({ cells }) => cells.map((cell) => cell && standingOf(cell))).map((group) => ({
        components: group.flatMap(({ components }) => components),
        cells: group[0].cells.map((_, at) => oldest(group.flatMap(({ cells }) => cells[at] ?? []))),
      }));
  return rows.sort((a, b) => weightOf(a) - weightOf(b) || a.components.length - b.components.length);
}

/** How a component stands in an environment: what is served of it there, on its lines too. */
function standingOf({ lines, runs, ...served }: ServedResult): string[] {
  return [served, ...lines].flatMap((each) => [releaseKey(each), each.drift.state]).concat(runsInstead({ runs }) ?? '');
}

/** So many lines are named beside what is served. */
const namedLines = 2;

/** What is served on lines beside a release: `2.3.2 · 2.2.9 +1`, the highest lines first, and how many more there are. */
export function linesBeside({ lines }: Pick<ServedResult, 'lines'>): string {
  const rest = lines.length - namedLines;
  const names = lines.slice(0, namedLines).map(releaseName).join(' · ');
  return rest > 0 ? `${names} +${rest}` : names;
}

/** Releases of which one is the other have the same key. */
export function releaseKey({ version, commit }: Pick<ServedResult, 'version' | 'commit'>): string {
  return `${version ?? ''} ${commit}`;
}

function oldest(components: readonly ServedResult[]): ServedResult | undefined {
  return [...components].sort((a, b) => a.since.localeCompare(b.since))[0];
}

function weightOf({ cells }: StatusRow): number {
  if (
    cells.some(
      (cell) => cell !== undefined && (runsInstead(cell) !== undefined || [cell, ...cell.lines].some(hasDrifted)),
    )
  ) {
    return 0;
  }
  return new Set(cells.map((cell) => cell && releaseKey(cell))).size > 1 ? 1 : 2;
}

/** So many releases that wait are named. */
const namedWaiting = 3;

/** How many releases wait, and which: `3 releases (2.6.0, 2.5.0, 2.4.1)`. */
export function waitingReleases({ releases, more }: Pick<Waiting, 'releases' | 'more'>): string {
  const names = releases.slice(0, namedWaiting).map(releaseName).join(', ');
  const rest = releases.length > namedWaiting || more ? ', …' : '';
  return `${more ? 'more than ' : ''}${formatCount(releases.length, 'release')} (${names}${rest})`;
}

/** What grows old, and when it ends: `prod: scan of 2.5.0 in 2 d 4 h (2026-11-27 00:24 UTC)`. */
export function expiringText(
  { kind, environment, name, of, until, isOver }: StatusResult['expiring'][number],
  now: Date,
): string {
  const what =
    kind === 'result'
      ? `${name} of ${of ?? ''}`
      : kind === 'exception'
        ? `the exception of ${name}`
        : `the key of ${name}`;
  const end = Date.parse(until) - now.getTime();
  const when = isOver ? `on ${formatMoment(until)}` : `in ${formatSpan(end)} (${formatMoment(until)})`;
  return `${environment === null ? 'trust' : environment}: ${what} ${when}`;
}
