import { formatCount, formatSeconds } from '../../core/amounts';
import { shortCommit } from '../../core/commit';
import type { RollbackResult } from '../../results/rollback';
import type { Look } from '../answer';
import { grouped } from './format';
import { astrayBlock, nameList, tagCounts, tagLines } from './images';
import type { Style } from './style';

type RolledBackImage = RollbackResult['images'][number];

/** What `rollback` answers to people. */
export function rollbackView(result: RollbackResult, { style, elapsed, verbose }: Look): string {
  const { images, withdrawn, reason, requests } = result;
  const left = withdrawn.map(
    ({ version, commit }) => `${version === null ? '' : `${version} `}(${shortCommit(commit)})`,
  );
  const shown = images.filter(({ tags }) => verbose || tags.some(({ outcome }) => outcome !== 'unchanged'));
  return [
    ...astrayBlock(images, style),
    [
      titleOf(result, style),
      `  ${style.faint(`because: ${reason}`)}`,
      ...(left.length === 0
        ? []
        : [
            `  ${style.notice('withdrawn')} ${left.join(', ')}  ${style.faint('does not come back here but with --again')}`,
          ]),
    ].join('\n'),
    ...grouped(shown, ({ tags }) => tags).map((group) =>
      [
        style.strong(nameList(group)),
        ...group.map((image) => placeLine(image, style)),
        ...tagLines(group[0].tags, style),
      ].join('\n'),
    ),
    `${tagCounts(images, style)}\n${style.faint(`${formatCount(requests, 'request')}, ${formatSeconds(elapsed / 1000)}`)}`,
  ].join('\n\n');
}

function titleOf({ images, environment, dryRun }: RollbackResult, style: Style): string {
  const changed = images.filter((image) => image.changed);
  if (changed.length === 0 && images.every(({ tags }) => tags.every(({ outcome }) => outcome === 'unchanged'))) {
    return `Nothing to do: ${style.strong(environment)} serves ${releasesOf(images)} already`;
  }
  const back = changed.length === 0 ? 'where its tags belong' : releasesOf(changed);
  return `${dryRun ? 'Would take' : 'Took'} ${style.strong(environment)} back to ${style.strong(back)}`;
}

function releasesOf(images: readonly RolledBackImage[]): string {
  const names = images.map(({ version, commit }) => version ?? (commit === null ? 'nothing' : shortCommit(commit)));
  return [...new Set(names)].join(', ');
}

function placeLine({ repository, digest }: RolledBackImage, style: Style): string {
  return digest === null ? `  ${repository}  ${style.notice('serves nothing')}` : `  ${repository}@${digest}`;
}
