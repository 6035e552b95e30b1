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
  const rows = events.map((event) => [
    localTime(event.at),
    release === null ? formatAge(event.at, now) : event.after === null ? '' : `+${formatSpan(event.after)}`,
    event.kind,
    event.environment ?? '',
    release === null ? nameOf(event) : '',
    [
      ...(event.components.length > 0 && event.components.length < everything.size ? [componentsOf(event)] : []),
      ...(event.detail === '' ? [] : [inShort(event.detail.replaceAll('\n', ' '), screen.verbose)]),
      `by ${event.actor}${event.proven ? ' (proven)' : ''}`,
    ].join('; '),
  ]);
  const lines = columns(rows, '', (cell, column) => paint(cell, column, style));
  const title =
    release === null
      ? []
      : [
          `The life of ${style.strong(`${product} ${release.version ?? shortCommit(release.commit)}`)} (${shortCommit(release.commit)}):`,
        ];
  return [...title, ...lines, ...(more ? [style.faint('There is more: --most N, --all, or narrow it.')] : [])].join(
    '\n',
  );
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
