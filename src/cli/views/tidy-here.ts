import { formatBytes, formatCount } from '../../core/amounts';
import type { TidyHereResult } from '../../results/tidy-here';
import type { Screen } from '../answer';
import { columns } from './format';

const meanings: Record<TidyHereResult['kept'][number]['kind'], string> = {
  ledger: 'the ledger; never removed',
  uploads: 'where interrupted uploads resume',
  git: 'cache of a ledger in git; bounded by itself',
  contents: 'cache of what layers hold; bounded by itself',
  user: 'logins, and how registries behave',
  other: 'other files; never removed',
  unfinished: 'unfinished files of killed runs',
  temporary: 'temporary folders of killed runs',
};

/** What `tidy --here` answers to people. */
export function tidyHereView({ dryRun, kept }: TidyHereResult, { style }: Screen): string {
  const files = kept.reduce((sum, { goes }) => sum + goes.files, 0);
  const bytes = kept.reduce((sum, { goes }) => sum + goes.bytes, 0);
  const title =
    files === 0
      ? 'Nothing to remove on this machine'
      : `${dryRun ? 'Would remove' : 'Removed'} ${style.strong(formatCount(files, 'file'))} (${formatBytes(bytes)}) on this machine`;
  const rows = kept.map(({ kind, place, files: count, bytes: size, goes }) => [
    ...[
      place,
      formatBytes(size),
      formatCount(count, 'file'),
      goes.files === 0 ? '' : `${goes.files} ${dryRun ? 'go' : 'removed'}`,
    ],
    meanings[kind],
  ]);
  return [
    title,
    ...columns(rows, '  ', (cell, column) =>
      column === 0 ? style.strong(cell) : column === 4 ? style.faint(cell) : cell,
    ),
    ...(dryRun && files > 0 ? ['', `${style.strong('hod tidy --here --remove')} removes them.`] : []),
  ].join('\n');
}
