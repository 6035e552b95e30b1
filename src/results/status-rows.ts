import { formatCount } from '../core/amounts';
import { grouped } from '../core/grouped';
import type { StatusResult } from './status';

type Environment = StatusResult['environments'][number];
export type ServedResult = Environment['images'][number];
type Waiting = NonNullable<Environment['waiting']>;

/** One image, or several that stand alike everywhere: what each environment serves of them, in their order. */
export interface StatusRow {
  readonly images: readonly string[];
  /** The one that has been served for longest. */
  readonly cells: readonly (ServedResult | undefined)[];
}

/** A release as people name it: its version, or the beginning of its commit. */
export function releaseName({ version, commit }: Pick<ServedResult, 'version' | 'commit'>): string {
  return version ?? commit.slice(0, 12);
}

/** Whether a registry certainly serves something else than the ledger says. */
export function isAstray({ drift: { state } }: ServedResult): boolean {
  return state === 'drifted' || state === 'unfinished';
}

/** What differs comes first. `each`: a row for every image; else those that stand alike everywhere share one. */
export function statusRows(environments: readonly Environment[], { each }: { readonly each: boolean }): StatusRow[] {
  const names = [...new Set(environments.flatMap(({ images }) => images.map(({ image }) => image)))];
  const found = environments.map(({ images }) => new Map(images.map((image) => [image.image, image])));
  const all = names.map((image): StatusRow => ({ images: [image], cells: found.map((served) => served.get(image)) }));
  const rows = each
    ? all
    : grouped(all, ({ cells }) => cells.map((cell) => cell && [releaseKey(cell), cell.drift.state])).map((group) => ({
        images: group.flatMap(({ images }) => images),
        cells: group[0].cells.map((_, at) => oldest(group.flatMap(({ cells }) => cells[at] ?? []))),
      }));
  return rows.sort((a, b) => weightOf(a) - weightOf(b) || a.images.length - b.images.length);
}

/** Releases of which one is the other have the same key. */
export function releaseKey({ version, commit }: Pick<ServedResult, 'version' | 'commit'>): string {
  return `${version ?? ''} ${commit}`;
}

function oldest(images: readonly ServedResult[]): ServedResult | undefined {
  return [...images].sort((a, b) => a.since.localeCompare(b.since))[0];
}

function weightOf({ cells }: StatusRow): number {
  if (cells.some((cell) => cell !== undefined && isAstray(cell))) {
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
