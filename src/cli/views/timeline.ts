import { formatAge, formatSpan } from '../../core/amounts';
import { shortCommit } from '../../core/commit';
import type { TimelineResult } from '../../results/timeline';
import type { Screen } from '../answer';
import { columns } from './format';
import { nameList } from './components';
import type { Style } from './style';

type Event = TimelineResult['events'][number];

/** What happened, a line an event. */
export function timelineView({ product, release, events, more }: TimelineResult, screen: Screen, now: Date): string {
  const { style } = screen;
  if (events.length === 0) {
    return `Nothing of this kind is in the ledger of ${style.strong(product)}.`;
  }
  const everything = new Set(events.flatMap(({ components }) => components));
  const rows = events.map((event) => rowOf(event, { isLife: release !== null, everything }, { ...screen, now }));
  const lines = columns(rows, '', (cell, column) => paint(cell, column, style));
  const title =
    release === null
      ? []
      : [
          `The life of ${style.strong(`${product} ${release.version ?? shortCommit(release.commit)}`)} (${shortCommit(release.commit)}):`,
        ];
  return [...title, ...lines, ...(more ? [style.faint(moreText)] : [])].join('\n');
}

/** What happened to several products, a line an event: the newest first, or from the beginning where it is the life of a release. */
export function timelinesView(
  results: readonly TimelineResult[],
  screen: Screen & { readonly now: Date; readonly most: number | undefined },
): string {
  const { style, most } = screen;
  const isLife = results.some(({ release }) => release !== null);
  const all = results.flatMap(({ product, events }) => {
    const everything = new Set(events.flatMap(({ components }) => components));
    return events.map((event) => ({ product, event, everything }));
  });
  if (all.length === 0) {
    return 'Nothing of this kind is in the ledgers of these products.';
  }
  const order = isLife ? 1 : -1;
  all.sort((one, other) => order * (Date.parse(one.event.at) - Date.parse(other.event.at)));
  const shown = all.slice(0, most);
  const rows = shown.map(({ product, event, everything }) => [
    product,
    ...rowOf(event, { isLife, everything }, screen),
  ]);
  const lines = columns(rows, '', (cell, column) => (column === 0 ? cell : paint(cell, column - 1, style)));
  const more = shown.length < all.length || results.some((each) => each.more);
  return [...lines, ...(more ? [style.faint(moreText)] : [])].join('\n');
}

const moreText = 'There is more: --most N, --all, or narrow it.';

/** The cells of an event. */
function rowOf(
  event: Event,
  { isLife, everything }: { readonly isLife: boolean; readonly everything: ReadonlySet<string> },
  { now, verbose }: Pick<Screen, 'verbose'> & { readonly now: Date },
): string[] {
  return [
    localTime(event.at),
    isLife ? (event.after === null ? '' : `+${formatSpan(event.after)}`) : formatAge(event.at, now),
    event.kind,
    event.environment ?? '',
    isLife ? '' : nameOf(event),
    [
      ...(event.components.length > 0 && event.components.length < everything.size ? [componentsOf(event)] : []),
      ...(event.detail === '' ? [] : [inShort(event.detail.replaceAll('\n', ' '), verbose)]),
      `by ${event.actor}${event.proven ? ' (proven)' : ''}`,
    ].join('; '),
  ];
}

function paint(cell: string, column: number, style: Style): string {
  switch (column) {
    case 2:
      return ['rolled-back', 'refused', 'failed', 'withdrawn'].includes(cell.trim())
        ? style.bad(cell)
        : style.strong(cell);
    case 4:
      return style.strong(cell);
    case 3:
      return cell;
    default:
      return style.faint(cell);
  }
}

/** So much of what is said of an event is shown where not all is asked for. */
const detailShown = 90;

function inShort(text: string, verbose: boolean): string {
  return verbose || text.length <= detailShown ? text : `${text.slice(0, detailShown - 1).trimEnd()}…`;
}

/** A time to the minute, UTC. */
function localTime(at: string): string {
  return at.slice(0, 16).replace('T', ' ');
}

function nameOf({ version, commit }: Event): string {
  return version ?? (commit === null ? '' : shortCommit(commit));
}

function componentsOf({ components }: Event): string {
  return nameList(components.map((component) => ({ component })));
}
