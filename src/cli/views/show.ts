import { formatAge, formatBytes, formatCount } from '../../core/amounts';
import { shortCommit } from '../../core/commit';
import { shortDigest } from '../../core/oci/digest';
import type { ShowResult } from '../../results/show';
import type { Screen } from '../answer';
import { columns } from './format';
import { releaseLines } from './identify';
import type { Style } from './style';

/** What `show` answers to people. */
export function showView(result: ShowResult, { style }: Screen, now: Date): string {
  const { reference, platforms, referrers, release, image, deep } = result;
  const facts = factsOf(result);
  const rows = platforms.map((each) => platformRow(each, now));
  const beside = referrers.map(({ digest: own, type, size: bytes, about, signed }) => [
    type,
    own,
    formatBytes(bytes),
    about === null ? '' : `of ${platforms.find((each) => each.digest === about)?.platform ?? shortDigest(about)}`,
    signed === null ? '' : signed.map(signatureText).join('; '),
  ]);
  return [
    style.strong(reference),
    ...columns(facts, '  ', (cell, column) => (column === 0 ? style.faint(cell) : cell)),
    ...releasedLines(release, now, style),
    '',
    ...(rows.length === 0
      ? ['  It holds no image that runs somewhere.']
      : columns(rows, '  ', (cell, column) => (column === 0 ? style.strong(cell) : cell))),
    ...(deep && rows.length > 0
      ? [`  ${style.good('every layer was read, and unpacks to what its config says')}`]
      : []),
    ...(beside.length === 0
      ? []
      : [
          '',
          'Referrers:',
          ...columns(beside, '  ', (cell, column) => (column === 0 ? style.strong(cell) : style.faint(cell))),
        ]),
    ...(image === null ? [] : ['', ...imageLines(image, style)]),
  ].join('\n');
}

/** What is said of it in pairs. */
function factsOf({ kind, digest, mediaType, size, pull, annotations, shared }: ShowResult): [string, string][] {
  return [
    ['kind', kind],
    ['digest', digest],
    ['type', mediaType],
    [
      'size',
      `${formatBytes(size)} (${size} bytes)${shared === 0 ? '' : `, ${formatBytes(shared)} of it in layers that platforms share`}`,
    ],
    ...(pull === null ? [] : [['pull', pull] as [string, string]]),
    ...Object.entries(annotations),
  ];
}

/** Which release of the product it is, or that it is none. */
function releasedLines(release: ShowResult['release'], now: Date, style: Style): string[] {
  if (release === null) {
    return [];
  }
  const lines = releaseLines(release, now, style);
  return ['', ...(lines.length === 0 ? [`  ${style.notice('The ledger knows no release that holds it.')}`] : lines)];
}

/** Who signed a document, or that it does not count and why. */
function signatureText({ by, detail, predicateType }: Signature): string {
  const type = predicateType === null ? '' : `${predicateType} `;
  return by === null ? `${type}not verified: ${detail}` : `${type}signed by ${by} (${detail})`;
}
type Signature = NonNullable<ShowResult['referrers'][number]['signed']>[number];

function platformRow(each: ShowResult['platforms'][number], now: Date): string[] {
  return [
    each.platform,
    each.digest,
    `${formatBytes(each.size)}${each.unpacked === null ? '' : `, ${formatBytes(each.unpacked)} unpacked`}`,
    formatCount(each.layers, 'layer'),
    each.created === null || Number.isNaN(Date.parse(each.created)) ? '' : formatAge(each.created, now),
    [each.version, each.revision === null ? null : `commit ${shortCommit(each.revision)}`]
      .filter((text) => text !== null)
      .join(' '),
    each.base === null ? '' : `on ${each.base.name ?? shortDigest(each.base.digest ?? '')}`,
  ];
}

function imageLines(image: NonNullable<ShowResult['image']>, style: Style): string[] {
  const { entrypoint, command, user, workingFolder, ports, volumes, environment, labels, history } = image;
  const words = (list: readonly string[]): string =>
    list.map((each) => (/^[\w./:=@%+,-]+$/.test(each) ? each : JSON.stringify(each))).join(' ');
  const facts: [string, string][] = [
    ['entry point', words(entrypoint)],
    ['command', words(command)],
    ['user', user ?? 'root (none is named)'],
    ['folder', workingFolder ?? ''],
    ['ports', ports.join(' ')],
    ['volumes', volumes.join(' ')],
    ...environment.map(({ name, value, masked }): [string, string] => [
      'variable',
      `${name}=${value}${masked ? '  (masked)' : ''}`,
    ]),
    ...Object.entries(labels).map(([name, value]): [string, string] => ['label', `${name}=${value}`]),
  ];
  const made = history.map(({ by, comment, layer }) => [
    layer === null ? '' : shortDigest(layer.digest),
    layer === null ? '' : formatBytes(layer.size),
    (by ?? comment ?? '').slice(0, 110),
  ]);
  return [
    ...columns(
      facts.filter(([, value]) => value !== ''),
      '  ',
      (cell, column) => (column === 0 ? style.faint(cell) : cell),
    ),
    ...(made.length === 0
      ? []
      : ['', 'How it was made:', ...columns(made, '  ', (cell, column) => (column === 2 ? cell : style.faint(cell)))]),
  ];
}
