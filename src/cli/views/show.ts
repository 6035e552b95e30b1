import { shortCommit } from '../../core/commit';
import type { ShowResult } from '../../results/show';
import type { Look } from '../answer';
import { columns, formatBytes, formatCount } from './format';

/** What `show` answers to people. */
export function showView(result: ShowResult, { style }: Look): string {
  const facts: [string, string][] = [
    ['digest', result.digest],
    ['type', result.mediaType],
    ['size', `${formatBytes(result.size)} (${result.size} bytes)`],
    ...Object.entries(result.annotations),
  ];
  const platforms = result.platforms.map(({ platform, digest, size, layers, revision }) => [
    platform,
    digest,
    formatBytes(size),
    formatCount(layers, 'layer'),
    revision === null ? '' : `commit ${shortCommit(revision)}`,
  ]);
  return [
    style.strong(result.reference),
    ...columns(facts, '  ', (cell, column) => (column === 0 ? style.faint(cell) : cell)),
    '',
    ...(platforms.length === 0
      ? ['  It holds no image that runs somewhere.']
      : columns(platforms, '  ', (cell, column) => (column === 0 ? style.strong(cell) : cell))),
  ].join('\n');
}
