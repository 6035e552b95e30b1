import { grouped } from '../../core/grouped';
import { formatCount } from '../../core/amounts';
import { shortDigest } from '../../core/oci/digest';
import { staysAsItIs } from '../../core/release/tag-decisions';
import type { ContentResult, TagResult } from '../../results/common';
import type { DeliveredResult } from '../../results/delivery';
import type { Screen } from '../answer';
import { columns } from './format';
import type { Style } from './style';
import { transferLine } from './transfer';

/** How many names a line lists before it counts the rest. */
const namesListed = 6;

/** So many images that fared alike have a line each. */
export const imagesListed = 6;

/** A line for each image or bundle, the rest counted, and where they are: what runs, and which content it is. */
export function imageLines(images: readonly ContentResult[], style: Style): string[] {
  const rows = images
    .slice(0, imagesListed)
    .map(({ image, kind, digest, platforms }) => [
      image,
      shortDigest(digest),
      kind === 'bundle' ? 'bundle of files' : platforms.join(' '),
    ]);
  const rest = images.length - rows.length;
  const places = new Set(images.map((each) => placeOf(each, { several: images.length > 1 })));
  return [
    ...columns(rows, '', (cell, column) =>
      column === 0 ? style.strong(cell) : column === 1 ? style.faint(cell) : cell,
    ),
    ...(rest === 0 ? [] : [`and ${rest} more`]),
    ...(places.size === 1 ? [`  ${style.faint(`in ${[...places].join('')}`)}`] : []),
  ];
}

/** The repository of an image; that of several with the place of their names. */
export function placeOf(
  { repository, image }: Pick<ContentResult, 'repository' | 'image'>,
  { several }: { readonly several: boolean },
): string {
  const parts = repository.split('/');
  return parts.map((part, at) => (several && at > 0 && part === image ? '{image}' : part)).join('/');
}

/** What an image or bundle is, and how to pull it. */
export function imageHead({ image, kind, platforms, repository, digest }: ContentResult, style: Style): string[] {
  const runs = kind === 'bundle' ? style.faint('bundle of files') : platforms.join('  ');
  return [`${style.strong(image)}  ${runs}`, `  ${repository}@${digest}`];
}

/** A line for each tag: what became of it, and why. */
export function tagLines(tags: readonly TagResult[], style: Style): string[] {
  const paint = {
    created: style.good,
    moved: style.good,
    restored: style.notice,
    removed: style.notice,
    unchanged: style.faint,
    held: style.notice,
    refused: style.bad,
  };
  const rows = tags.map(({ tag, outcome, reason }) => [tag, outcome, outcome === 'created' ? '' : reason]);
  return columns(rows, '  ', (cell, column, row) => {
    const outcome = tags[row]?.outcome;
    if (column === 1 && outcome !== undefined) {
      return paint[outcome](cell);
    }
    return column === 2 ? style.faint(cell) : cell;
  });
}

/**
 * The images and bundles of a delivery: what changed comes first, what fared alike is told once, and
 * what did not change is counted. Verbose: every one by itself.
 */
export function imageBlocks(images: readonly DeliveredResult[], { style, verbose }: Screen): string[] {
  const ordered = [...images].sort((a, b) => weights.indexOf(weightOf(a)) - weights.indexOf(weightOf(b)));
  if (verbose) {
    return ordered.map((image) =>
      [
        ...imageHead(image, style),
        ...fateLines(image, image.tags, style),
        `  ${style.faint(transferLine(image.transfer))}`,
      ].join('\n'),
    );
  }
  const weighing = (weight: Weight): DeliveredResult[] => ordered.filter((image) => weightOf(image) === weight);
  const unchanged = weighing('unchanged');
  return [
    ...alike(weighing('changed')).map((group) => groupText(group, imageLines(group, style), style)),
    ...alike(weighing('held')).map((group) => groupText(group, [style.strong(nameList(group))], style)),
    ...(unchanged.length === 0 ? [] : [style.faint(`unchanged: ${nameList(unchanged)}`)]),
  ];
}

/** Images whose tags fared alike: their heads, and what became of the tags of each. */
function groupText(group: readonly DeliveredResult[], heads: readonly string[], style: Style): string {
  const fate = group.slice(0, 1).flatMap((image) => fateLines(image, toldTags(image), style));
  const each = group.length > 1 ? [style.faint(`  each of these ${group.length}:`)] : [];
  return [...heads, ...each, ...fate].join('\n');
}

/** How many tags fared how: `27 unchanged, 2 moved, 1 held`. */
export function tagCounts(images: readonly { readonly tags: readonly TagResult[] }[], style: Style): string {
  const counts = new Map<string, number>();
  images.flatMap(({ tags }) => tags).forEach(({ outcome }) => counts.set(outcome, (counts.get(outcome) ?? 0) + 1));
  const order = ['created', 'moved', 'restored', 'removed', 'held', 'refused', 'unchanged'];
  const parts = order.filter((each) => counts.has(each)).map((each) => `${counts.get(each) ?? 0} ${each}`);
  return `${style.strong('Tags: ')} ${parts.join(', ') || 'none'}`;
}

/** Whether everything was there before. */
export function changesNothing(images: readonly DeliveredResult[]): boolean {
  return (
    keepsTags(images) && images.every(({ transfer, attached }) => transfer.blobsSent === 0 && attached.brought === 0)
  );
}

/** Whether every tag stays as it is. */
export function keepsTags(images: readonly DeliveredResult[]): boolean {
  return images.every(
    ({ tags }) =>
      tags.some(({ outcome }) => outcome === 'unchanged') && tags.every(({ outcome }) => staysAsItIs(outcome)),
  );
}

/** Whether every tag was held. */
export function leadsNowhere(images: readonly DeliveredResult[]): boolean {
  return images.every(({ tags }) => tags.every(({ outcome }) => outcome === 'held'));
}

/** Whether tags that stood elsewhere were put right, and nothing else was done. */
export function onlyRestores(images: readonly DeliveredResult[]): boolean {
  const outcomes = images.flatMap(({ tags }) => tags.map(({ outcome }) => outcome));
  return outcomes.includes('restored') && outcomes.every((outcome) => outcome === 'restored' || staysAsItIs(outcome));
}

/** The tags that stood elsewhere than the ledger says. */
export function astrayBlock(
  images: readonly { readonly repository: string; readonly tags: readonly TagResult[] }[],
  style: Style,
): string[] {
  const lines = images.flatMap(({ repository, tags }) =>
    tags.flatMap(({ tag, astray }) => {
      if (astray === null) {
        return [];
      }
      const stood = astray.served === null ? 'gone' : shortDigest(astray.served);
      return [`  ${repository}:${tag}  ${stood}, the ledger says ${shortDigest(astray.recorded)}`];
    }),
  );
  return lines.length === 0
    ? []
    : [
        `${style.notice('Elsewhere than the ledger says')}: moved by hand, or by a run that is not done yet or was ended.\n${lines.join('\n')}`,
      ];
}

/** The first names of some images, and how many more there are. */
export function nameList(images: readonly { readonly image: string }[]): string {
  const names = images.slice(0, namesListed).map(({ image }) => image);
  const more = images.length - names.length;
  return more === 0
    ? names.join(', ')
    : `${names.join(', ')} and ${more} more (${formatCount(images.length, 'image')})`;
}

const weights = ['changed', 'held', 'unchanged'] as const;
type Weight = (typeof weights)[number];

/** What changed comes first, then what was held, then what did not change. */
function weightOf({ tags, omitted }: DeliveredResult): Weight {
  if (tags.some(({ outcome }) => !staysAsItIs(outcome))) {
    return 'changed';
  }
  return tags.some(({ outcome }) => outcome === 'held') || omitted.length > 0 ? 'held' : 'unchanged';
}

/** The tags of an image of which something is to be told: what is as it was is counted. */
export function toldTags({ tags }: { readonly tags: readonly TagResult[] }): TagResult[] {
  return tags.filter(({ outcome }) => outcome !== 'unchanged');
}

/** What became of tags of an image, and which rules gave none. */
function fateLines({ omitted }: DeliveredResult, tags: readonly TagResult[], style: Style): string[] {
  return [
    ...tagLines(tags, style),
    ...omitted.map(({ rule, missing }) => `  ${style.faint(`no tag from ${rule}: there is no ${missing}`)}`),
  ];
}

/** Groups images whose tags fared alike, for the same reasons. */
function alike(images: readonly DeliveredResult[]): DeliveredResult[][] {
  return grouped(images, (image) => [toldTags(image), image.omitted]);
}
