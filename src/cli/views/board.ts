import { formatBytes, formatCount, formatSpan } from '../../core/amounts';
import type { BoardResult, BoardsResult } from '../../results/board';
import type { Screen } from '../answer';
import { columns } from './format';

/** Where the page is, and what it says in a few lines. */
export function boardView(
  { file, bytes, product, asked, releases, events, figures }: BoardResult,
  { style }: Screen,
): string {
  const rows = figures.environments.map(({ environment, releases: count, withdrawn, sinceCommit }) => [
    environment,
    formatCount(count, 'release'),
    `${withdrawn} rolled back`,
    sinceCommit === null ? '' : `${formatSpan(sinceCommit.median)} from the commit (median)`,
  ]);
  return [
    `Wrote ${style.strong(file)} (${formatBytes(bytes)}): ${formatCount(releases.length, 'release')} of ${style.strong(product)}, ${formatCount(events.length, 'event')}`,
    ...columns(rows, '  ', (cell, column) => (column === 0 ? style.strong(cell) : cell)),
    style.faint(
      `It loads nothing from anywhere: open it in a browser, or keep it as an artifact.${asked ? '' : ' No registry was asked.'}`,
    ),
  ].join('\n');
}

/** Where the page of several products is, and how many it shows. */
export function boardsView({ file, bytes, products, unread }: BoardsResult, { style }: Screen): string {
  return [
    `Wrote ${style.strong(file)} (${formatBytes(bytes)}): ${formatCount(products.length, 'product')}`,
    ...(unread.length === 0 ? [] : [style.notice(`${formatCount(unread.length, 'product')} could not be read`)]),
    style.faint('It loads nothing from anywhere: open it in a browser, or keep it as an artifact.'),
  ].join('\n');
}
