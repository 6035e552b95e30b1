import { formatAge, formatCount, formatMoment } from '../../core/amounts';
import { shortCommit } from '../../core/commit';
import type { RepositoriesResult, TagsResult } from '../../results/tags';
import type { Screen } from '../answer';
import { columns } from './format';

/** What `tags` answers to people: what tags lead to, a line each, the highest version first. */
export function tagsView({ repositories }: TagsResult, { style }: Screen, now: Date): string {
  return repositories
    .map(({ repository, exists, count, digests, tidied }) => {
      const shown = digests.reduce((sum, { tags }) => sum + tags.length, 0);
      const age = (at: string | null): string =>
        at === null || Number.isNaN(Date.parse(at)) ? '' : formatAge(at, now);
      const rows = digests.map(({ digest, tags, platforms, since, created, revision, servedBy }) => [
        tags.map(({ tag, kind }) => (kind === 'moving' ? `${tag}*` : tag)).join(' '),
        digest.slice(0, 19),
        age(since) === '' ? '' : `here ${age(since)}`,
        age(created) === '' ? '' : `built ${age(created)}`,
        platforms.join(' '),
        revision === null ? '' : shortCommit(revision),
        servedBy.length === 0 ? '' : `served by ${servedBy.join(', ')}`,
      ]);
      const more =
        count > shown
          ? [
              `  ${style.faint(`and ${formatCount(count - shown, 'more tag')}: --most, --find, or --names for all of them`)}`,
            ]
          : [];
      return [
        `${style.strong(repository)}  ${exists ? formatCount(count, 'tag') : 'not created yet (the first upload creates it)'}`,
        ...columns(rows, '  ', (cell, column) =>
          column === 0 ? style.strong(cell) : column === 6 ? style.good(cell) : style.faint(cell),
        ),
        ...more,
        ...(tidied === null
          ? []
          : [
              `  ${style.faint(`hod tidy removed ${formatCount(tidied.digests, 'digest')} so far, last on ${formatMoment(tidied.at)} by ${tidied.by} (${tidied.rule})`)}`,
            ]),
      ].join('\n');
    })
    .concat(
      repositories.some(({ digests }) => digests.some(({ tags }) => tags.some(({ kind }) => kind === 'moving')))
        ? [style.faint('* moves')]
        : [],
    )
    .join('\n\n');
}

/** What `repositories` answers to people: names, a line each, as `hod tags` takes them. */
export function repositoriesView({ registry, repositories, whole }: RepositoriesResult, { style }: Screen): string {
  return [
    ...repositories.map((name) => `${registry}/${name}`),
    ...(whole ? [] : [style.faint('and more: --most, or --find')]),
  ].join('\n');
}
