import { shortCommit } from '../../core/commit';
import type { RollbackResult } from '../../results/rollback';
import type { Look } from '../answer';
import { astrayBlock, nameList, tagCounts, tagLines } from './images';
import { formatCount, formatSeconds } from './format';

/** What `rollback` answers to people. */
export function rollbackView(result: RollbackResult, { style, elapsed, verbose }: Look): string {
  const { images, environment, withdrawn, reason, dryRun, requests } = result;
  const named = (version: string | null, commit: string | null): string =>
    version ?? (commit === null ? 'nothing' : shortCommit(commit));
  const changed = images.filter((image) => image.changed);
  const back = [...new Set(changed.map(({ version, commit }) => named(version, commit)))].join(', ');
  const title =
    changed.length === 0 && images.every(({ tags }) => tags.every(({ outcome }) => outcome === 'unchanged'))
      ? `Nothing to do: ${style.strong(environment)} serves ${[...new Set(images.map(({ version, commit }) => named(version, commit)))].join(', ')} already`
      : `${dryRun ? 'Would take' : 'Took'} ${style.strong(environment)} back to ${style.strong(back === '' ? 'where its tags belong' : back)}`;
  const left = withdrawn.map(
    ({ version, commit }) => `${named(version, null) === 'nothing' ? '' : `${version ?? ''} `}(${shortCommit(commit)})`,
  );
  const moved = images.filter(({ tags }) => verbose || tags.some(({ outcome }) => outcome !== 'unchanged'));
  const groups = new Map<string, typeof moved>();
  for (const image of moved) {
    const key = JSON.stringify(image.tags);
    groups.set(key, [...(groups.get(key) ?? []), image]);
  }
  return [
    ...astrayBlock(images, style),
    [
      title,
      `  ${style.faint(`because: ${reason}`)}`,
      ...(left.length === 0
        ? []
        : [
            `  ${style.notice('withdrawn')} ${left.join(', ')}  ${style.faint('does not come back here but with --again')}`,
          ]),
    ].join('\n'),
    ...[...groups.values()].map((group) =>
      [
        style.strong(nameList(group)),
        ...group.map(
          ({ repository, digest }) =>
            `  ${digest === null ? `${repository}  ${style.notice('serves nothing')}` : `${repository}@${digest}`}`,
        ),
        ...tagLines(group[0]?.tags ?? [], style),
      ].join('\n'),
    ),
    `${tagCounts(images, style)}\n${style.faint(`${formatCount(requests, 'request')}, ${formatSeconds(elapsed / 1000)}`)}`,
  ].join('\n\n');
}
