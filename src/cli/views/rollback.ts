import { grouped } from '../../core/grouped';
import { formatCount, formatSeconds } from '../../core/amounts';
import { shortCommit } from '../../core/commit';
import { shortDigest } from '../../core/oci/digest';
import type { RollbackResult } from '../../results/rollback';
import type { Screen } from '../answer';
import { columns } from './format';
import { astrayBlock, imagesListed, tagCounts, tagLines, toldTags } from './images';
import { nextLines } from './next';
import type { Style } from './style';

type RolledBackImage = RollbackResult['images'][number];

/** What `rollback` answers to people. */
export function rollbackView(result: RollbackResult, { style, elapsed, verbose, guiding }: Screen): string {
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
    ...grouped(shown, (image) => (verbose ? image.tags : toldTags(image))).map((group) =>
      [
        ...columns(
          group.slice(0, verbose ? undefined : imagesListed).map((image) => placeCells(image, verbose)),
          '',
          (cell, column) => (column === 0 ? style.strong(cell) : cell),
        ),
        ...(verbose || group.length <= imagesListed ? [] : [`and ${group.length - imagesListed} more`]),
        ...tagLines(verbose ? group[0].tags : toldTags(group[0]), style),
      ].join('\n'),
    ),
    `${tagCounts(images, style)}\n${style.faint(`${formatCount(requests, 'request')}, ${formatSeconds(elapsed / 1000)}`)}`,
    ...(guiding && result.next.length > 0 ? [nextLines(result.next, style).join('\n')] : []),
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

/** What is served of an image again. Verbose: how to pull it. */
function placeCells({ image, repository, digest }: RolledBackImage, verbose: boolean): string[] {
  return [image, digest === null ? 'serves nothing' : verbose ? `${repository}@${digest}` : shortDigest(digest)];
}
