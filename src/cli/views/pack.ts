import { formatBytes, formatCount, formatSeconds } from '../../core/amounts';
import { shortCommit } from '../../core/commit';
import { shortDigest } from '../../core/oci/digest';
import type { PackResult } from '../../results/pack';
import type { Screen } from '../answer';
import { componentsListed } from './components';
import { columns } from './format';

/** What `pack` answers to people. */
export function packView(result: PackResult, { style, elapsed, verbose }: Screen): string {
  const { place, dryRun, product, releases, contents, referrers, ledgerEntries, blobs, size, kept, leftOut } = result;
  const names = releases.map(({ version, commit }) =>
    version === null ? shortCommit(commit) : `${version} (${shortCommit(commit)})`,
  );
  const what = product === null ? formatCount(contents.length, 'image') : `${product} ${names.join(', ')}`;
  const listed = verbose ? contents : contents.slice(0, componentsListed);
  const rest = contents.length - listed.length;
  const rows = listed.map(({ name, kind, artifactType, digest, size: own }) => [
    name,
    shortDigest(digest),
    formatBytes(own),
    kind === 'image' ? '' : kind === 'bundle' ? 'bundle of files' : (artifactType ?? kind),
  ]);
  const along = [
    ...(referrers === 0 ? [] : [formatCount(referrers, 'referrer')]),
    ...(ledgerEntries === 0 ? [] : [`${formatCount(ledgerEntries, 'entry', 'entries')} of the ledger`]),
  ];
  return [
    `${dryRun ? 'Would pack' : style.good('Packed')} ${what} into ${style.strong(place)}: ${formatBytes(size)}`,
    '',
    ...columns(rows, '  ', (cell, column) => (column === 0 ? style.strong(cell) : style.faint(cell))),
    ...(rest === 0 ? [] : [`  and ${rest} more`]),
    ...(along.length === 0 ? [] : [`  with ${along.join(' and ')}`]),
    ...(leftOut === null
      ? []
      : [
          `  without ${formatCount(leftOut.blobs, 'layer')} (${formatBytes(leftOut.size)}) of ${leftOut.releases.join(', ')}, which the other side has`,
        ]),
    '',
    style.faint(
      `${formatCount(blobs, 'manifest or blob', 'manifests and blobs')}${kept === 0 ? '' : `, ${formatBytes(kept)} were there already`}, ${formatSeconds(elapsed / 1000)}`,
    ),
  ].join('\n');
}
