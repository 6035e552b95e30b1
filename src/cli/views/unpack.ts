import { formatBytes, formatCount, formatSeconds } from '../../core/amounts';
import { shortDigest } from '../../core/oci/digest';
import type { UnpackResult } from '../../results/unpack';
import type { Screen } from '../answer';
import { componentsListed } from './components';
import { columns } from './format';

/** What `unpack` answers to people. */
export function unpackView(
  { folder, dryRun, outcome, contents }: UnpackResult,
  { style, elapsed, verbose }: Screen,
): string {
  const files = contents.reduce((sum, each) => sum + each.files, 0);
  const size = contents.reduce((sum, each) => sum + each.size, 0);
  const what = `${formatCount(files, 'file')} (${formatBytes(size)})`;
  const place = style.strong(folder);
  const listed = verbose ? contents : contents.slice(0, componentsListed);
  const rest = contents.length - listed.length;
  const rows = listed.map((each) => [
    each.component === null ? folder : `${folder.replace(/\/+$/, '')}/${each.component}`,
    shortDigest(each.digest),
    formatCount(each.files, 'file'),
    formatBytes(each.size),
    each.artifactType ?? '',
  ]);
  return [
    outcome === 'unchanged'
      ? `Nothing to do: ${place} holds these ${what} already`
      : dryRun
        ? `Would unpack ${what} into ${place}`
        : `${style.good('Unpacked')} ${what} into ${place}`,
    ...columns(rows, '  ', (cell, column) => (column === 0 ? style.strong(cell) : style.faint(cell))),
    ...(rest === 0 ? [] : [`  and ${rest} more`]),
    style.faint(`every byte checked against its digest, ${formatSeconds(elapsed / 1000)}`),
  ].join('\n');
}
