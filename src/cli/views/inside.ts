import { formatBytes, formatCount } from '../../core/amounts';
import type { InsideDifference, InsidePath, InsideResult, PathDifferenceResult } from '../../results/inside';
import type { Screen } from '../answer';
import { columns } from './format';
import type { Style } from './style';

/** So many concerns and hidden files are told of one kind; the document has all. */
const told = 12;

/** What `inside` answers to people. */
export function insideView(result: InsideResult, { style, verbose }: Screen): string {
  const { reference, platform, digest, layers, files, size, hiddenTotal, paths, hidden } = result;
  const most = verbose ? Infinity : told;
  const layerRows = layers.map((layer) => [
    `layer ${layer.number}`,
    layer.digest.slice(0, 19),
    formatBytes(layer.size),
    `${formatBytes(layer.unpacked)} unpacked`,
    formatCount(layer.members, 'member'),
    layer.hidden === 0 ? '' : `${formatBytes(layer.hidden)} hidden`,
  ]);
  const parts = [
    [
      `${style.strong(reference)}  ${platform ?? 'bundle of files'}`,
      `  ${style.faint(digest)}`,
      `  ${formatCount(files, 'file')} of ${formatBytes(size)}; ${hiddenText(hiddenTotal)}`,
    ],
    result.narrowed
      ? []
      : columns(layerRows, '  ', (cell, column) =>
          column === 0 ? style.strong(cell) : column === 5 ? style.notice(cell) : cell,
        ),
    concernLines(result, style, most),
    paths.length === 0 ? [] : rowsOf(paths, style),
    hiddenLines(hidden, style, most),
    result.largest.length === 0
      ? []
      : [
          'Largest:',
          ...columns(
            result.largest.map(({ path, size: bytes, layer }) => [formatBytes(bytes), path, `layer ${layer}`]),
            '  ',
            (cell, column) => (column === 2 ? style.faint(cell) : cell),
          ),
        ],
  ];
  return parts
    .filter((lines) => lines.length > 0)
    .map((lines) => lines.join('\n'))
    .join('\n\n');
}

function hiddenLines(hidden: InsideResult['hidden'], style: Style, most: number): string[] {
  const rows = hidden
    .slice(0, most)
    .map(({ path, size, layer, by, how }) => [formatBytes(size), path, `layer ${layer}, ${how} by layer ${by}`]);
  return hidden.length === 0
    ? []
    : [
        'Shipped, and hidden by a later layer:',
        ...columns(rows, '  ', (cell, column) => (column === 2 ? style.faint(cell) : cell)),
        ...andMore(hidden.length, most, style),
      ];
}

const concernWords: Readonly<Record<InsideResult['concerns'][number]['concern'], string>> = {
  secret: 'holds a key or a login',
  'set-uid': 'runs as its owner (set-uid)',
  'set-gid': 'runs as its group (set-gid)',
  'writable-by-all': 'can be written by all',
  'leads-out': 'has a name that leads out of the image',
};

function concernLines({ concerns }: InsideResult, style: Style, most: number): string[] {
  const rows = concerns.map(({ concern, path, layer, hidden, fails }) => [
    path,
    `${concernWords[concern]}, layer ${layer}${hidden ? ': hidden by a later layer, and shipped all the same' : ''}`,
    fails ? 'fails --check' : '',
  ]);
  return rows.length === 0
    ? []
    : [
        style.notice('Findings:'),
        ...columns(rows.slice(0, most), '  ', (cell, column) =>
          column === 0 ? style.strong(cell) : column === 2 ? style.bad(cell) : cell,
        ),
        ...andMore(rows.length, most, style),
      ];
}

function hiddenText({ files, bytes }: InsideResult['hiddenTotal']): string {
  return files === 0
    ? 'nothing in it is hidden'
    : `${formatBytes(bytes)} more in ${formatCount(files, 'file')} that a later layer hides`;
}

function andMore(count: number, most: number, style: Style): string[] {
  return count > most ? [`  ${style.faint(`and ${count - most} more: --verbose, or --json`)}`] : [];
}

function rowsOf(paths: readonly InsidePath[], style: Style): string[] {
  const rows = paths.map(({ path, kind, size, mode, link, layer }) => [
    `${marks[kind]}${mode}`,
    formatBytes(size),
    `${path}${kind === 'folder' ? '/' : ''}${link === null ? '' : ` → ${link}`}`,
    `layer ${layer}`,
  ]);
  return columns(rows, '  ', (cell, column) => (column === 0 || column === 3 ? style.faint(cell) : cell));
}

const marks: Readonly<Record<InsidePath['kind'], string>> = {
  file: '-',
  folder: 'd',
  symlink: 'l',
  hardlink: 'h',
  device: 'c',
  fifo: 'p',
};

/** What `inside` answers of two images. */
export function insideDifferenceView({ from, to, ...paths }: InsideDifference, { style }: Screen): string {
  const lines = pathLines(paths, style, Infinity);
  return [
    `${style.strong(from.reference)} → ${style.strong(to.reference)}  ${to.platform ?? 'bundles of files'}`,
    `  ${pathCounts(paths)}`,
    ...(lines.length === 0 ? [] : ['', ...lines]),
  ].join('\n');
}

/** How many paths differ, and how. */
export function pathCounts({ added, removed, changed }: PathDifferenceResult): string {
  return `${formatCount(added.length, 'path')} added, ${removed.length} removed, ${changed.length} changed`;
}

/** A line for each path that differs, at most so many. */
export function pathLines({ added, removed, changed }: PathDifferenceResult, style: Style, most: number): string[] {
  const rows = [
    ...added.map((file) => [style.good('added'), formatBytes(file.size), file.path, `layer ${file.layer}`]),
    ...removed.map((file) => [style.notice('removed'), formatBytes(file.size), file.path, `layer ${file.layer}`]),
    ...changed.map(({ path, what, from: old, to: file }) => [
      'changed',
      old.size === file.size ? formatBytes(file.size) : `${formatBytes(old.size)} → ${formatBytes(file.size)}`,
      path,
      what.join(', '),
    ]),
  ].sort((a, b) => ((a[2] ?? '') < (b[2] ?? '') ? -1 : 1));
  return [
    ...columns(rows.slice(0, most), '  ', (cell, column) => (column === 3 ? style.faint(cell) : cell)),
    ...andMore(rows.length, most, style),
  ];
}
