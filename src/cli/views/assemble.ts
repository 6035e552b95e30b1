import { formatBytes, formatCount } from '../../core/amounts';
import { shortCommit } from '../../core/commit';
import type { AssembleResult } from '../../results/assemble';
import type { Screen } from '../answer';
import { columns } from './format';
import { tagLines } from './components';
import { transferLine } from './transfer';

/** What `assemble` answers to people. */
export function assembleView(result: AssembleResult, { style }: Screen): string {
  const verb = result.dryRun ? 'Would assemble' : 'Assembled';
  const members = result.members.map(({ platform, digest, size, revision }) => {
    return [platform, digest, formatBytes(size), revision === null ? '' : `commit ${shortCommit(revision)}`];
  });
  const { changed, companions } = result;
  const others =
    changed === null || changed.tags.length === 0
      ? []
      : [`${changed.tags.join(', ')} still lead${changed.tags.length === 1 ? 's' : ''} to what it was`];
  const rest = [
    ...(companions === 0
      ? []
      : [`  ${style.faint(`and ${formatCount(companions, 'attestation or the like', 'attestations and the like')}`)}`]),
    ...(changed === null
      ? []
      : ['', `Changed from ${changed.from}, ${changed.digest}`, ...others.map((line) => `  ${style.notice(line)}`)]),
    ...(changed?.allTags === false ? [`  ${style.faint('not all of its tags could be asked for')}`] : []),
  ];
  return [
    result.kept
      ? `${result.dryRun ? 'Would write' : 'Wrote'} it as it is: ${formatCount(result.members.length, 'image')}; --index makes a new index of it`
      : `${verb} an index of ${formatCount(result.members.length, 'image')}`,
    `  ${result.repository}@${result.digest}`,
    ...tagLines(result.tags, style),
    `  ${style.faint(transferLine(result.transfer, result))}`,
    '',
    ...columns(members, '  ', (cell, column) => (column === 0 ? style.strong(cell) : cell)),
    ...rest,
  ].join('\n');
}
