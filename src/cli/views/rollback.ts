import { grouped } from '../../core/grouped';
import { formatCount, formatSeconds } from '../../core/amounts';
import { shortCommit } from '../../core/commit';
import { shortDigest } from '../../core/oci/digest';
import type { RollbackResult } from '../../results/rollback';
import type { Screen } from '../answer';
import { columns } from './format';
import { driftBlock, componentsListed, tagCounts, tagLines, toldTags } from './components';
import { nextLines } from './next';
import type { Style } from './style';

type RolledBackComponent = RollbackResult['components'][number];

/** What `rollback` answers to people. */
export function rollbackView(result: RollbackResult, { style, elapsed, verbose, guiding }: Screen): string {
  const { components, withdrawn, reason, requests } = result;
  const left = withdrawn.map(
    ({ version, commit }) => `${version === null ? '' : `${version} `}(${shortCommit(commit)})`,
  );
  const shown = components.filter(({ tags }) => verbose || tags.some(({ outcome }) => outcome !== 'unchanged'));
  return [
    ...driftBlock(components, style),
    [
      titleOf(result, style),
      `  ${style.faint(`because: ${reason}`)}`,
      ...(left.length === 0
        ? []
        : [`  ${style.notice('withdrawn')} ${left.join(', ')}  ${style.faint('can return only with --again')}`]),
    ].join('\n'),
    ...grouped(shown, (component) => (verbose ? component.tags : toldTags(component))).map((group) =>
      [
        ...columns(
          group
            .slice(0, verbose ? undefined : componentsListed)
            .map((component) => placeCells(component, result, verbose)),
          '',
          (cell, column) => (column === 0 ? style.strong(cell) : cell),
        ),
        ...(verbose || group.length <= componentsListed ? [] : [`and ${group.length - componentsListed} more`]),
        ...tagLines(verbose ? group[0].tags : toldTags(group[0]), style),
      ].join('\n'),
    ),
    `${tagCounts(components, style)}\n${style.faint(`${formatCount(requests, 'request')}, ${formatSeconds(elapsed / 1000)}`)}`,
    ...(guiding && result.next.length > 0 ? [nextLines(result.next, style).join('\n')] : []),
  ].join('\n\n');
}

function titleOf({ components, environment, line, dryRun }: RollbackResult, style: Style): string {
  const changed = components.filter((component) => component.changed);
  const place =
    line === null ? style.strong(environment) : `line ${style.strong(line)} of ${style.strong(environment)}`;
  if (changed.length === 0 && components.every(({ tags }) => tags.every(({ outcome }) => outcome === 'unchanged'))) {
    return `Nothing to do: ${place} ${line === null ? 'serves' : 'has'} ${releasesOf(components)} already`;
  }
  if (changed.length > 0 && changed.every(({ digest }) => digest === null)) {
    return `${dryRun ? 'Would withdraw' : 'Withdrew'} ${place}: no release was its newest before`;
  }
  const verb = dryRun ? 'Would roll' : 'Rolled';
  return changed.length === 0
    ? `${verb} ${place} back: its tags are where they belong`
    : `${verb} ${place} back to ${style.strong(releasesOf(changed))}`;
}

function releasesOf(components: readonly RolledBackComponent[]): string {
  const names = components.map(({ version, commit }) => version ?? (commit === null ? 'nothing' : shortCommit(commit)));
  return [...new Set(names)].join(', ');
}

/** What is served of a component again. Verbose: how to pull it. */
function placeCells(
  { component, repository, digest }: RolledBackComponent,
  { line }: RollbackResult,
  verbose: boolean,
): string[] {
  const none = line === null ? 'serves nothing' : 'no release';
  return [component, digest === null ? none : verbose ? `${repository}@${digest}` : shortDigest(digest)];
}
