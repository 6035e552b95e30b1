import { repositoryPattern } from '../../core/tags/repository-pattern';
import { grouped } from '../../core/grouped';
import { formatCount } from '../../core/amounts';
import { shortCommit } from '../../core/commit';
import { shortDigest } from '../../core/oci/digest';
import { staysAsItIs } from '../../core/release/tag-decisions';
import type { ContentResult, IncludedResult, TagResult } from '../../results/common';
import type { DeliveredResult } from '../../results/delivery';
import type { Screen } from '../answer';
import { columns } from './format';
import type { Style } from './style';
import { transferLine } from './transfer';

/** How many names a line lists before it counts the rest. */
const namesListed = 6;

/** So many components that fared alike have a line each. */
export const componentsListed = 6;

/** A line for each component, the rest counted, and where they are: what runs, and which content it is. */
export function componentLines(
  components: readonly (ContentResult & { included?: IncludedResult })[],
  style: Style,
): string[] {
  const rows = components
    .slice(0, componentsListed)
    .map(({ included, ...each }) => [
      each.component,
      shortDigest(each.digest),
      [whatItIs(each, ' '), ...originOf(included)].join('  '),
    ]);
  const rest = components.length - rows.length;
  const places = new Set(components.map((each) => placeOf(each, { several: components.length > 1 })));
  return [
    ...columns(rows, '', (cell, column) =>
      column === 0 ? style.strong(cell) : column === 1 ? style.faint(cell) : cell,
    ),
    ...(rest === 0 ? [] : [`and ${rest} more`]),
    ...(places.size === 1 ? [`  ${style.faint(`in ${[...places].join('')}`)}`] : []),
  ];
}

/** What some content is, in a few words: where an image runs, or what kind of artifact it is. */
export function whatItIs(
  { kind, artifactType, platforms }: Pick<ContentResult, 'kind' | 'artifactType' | 'platforms'>,
  between: string,
): string {
  switch (kind) {
    case 'image':
      return platforms.join(between);
    case 'bundle':
      return 'bundle of files';
    case 'artifact':
      return artifactType ?? 'artifact';
  }
}

/** Names the origin of an included component: `from payments 1.4.2`, or the reference that hod.yaml names. */
export function originOf(included: IncludedResult | undefined): string[] {
  if (included === null || included === undefined) {
    return [];
  }
  const { repository, tag, product, version, commit } = included;
  const release = version ?? (commit === null ? '' : shortCommit(commit));
  const reference = tag === null ? repository : `${repository}:${tag}`;
  return [`from ${product === null ? reference : `${product} ${release}`}`];
}

/** The repository of a component; that of several with the place of their names. */
export function placeOf(
  { repository, component }: Pick<ContentResult, 'repository' | 'component'>,
  { several }: { readonly several: boolean },
): string {
  return several ? repositoryPattern(repository, component) : repository;
}

/** What a component is, and how to pull it. */
export function componentHead(
  { included, ...content }: ContentResult & { included?: IncludedResult },
  style: Style,
): string[] {
  const { component, kind, repository, digest } = content;
  const what = whatItIs(content, '  ');
  const told = kind === 'image' ? what : style.faint(what);
  return [[style.strong(component), told, ...originOf(included)].join('  '), `  ${repository}@${digest}`];
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
 * The components of a delivery: what changed comes first, what fared alike is told once, and
 * what did not change is counted. Verbose: every one by itself.
 */
export function componentBlocks(
  { components, dryRun }: { readonly components: readonly DeliveredResult[]; readonly dryRun: boolean },
  { style, verbose }: Screen,
): string[] {
  const ordered = [...components].sort((a, b) => weights.indexOf(weightOf(a)) - weights.indexOf(weightOf(b)));
  if (verbose) {
    return ordered.map((component) =>
      [
        ...componentHead(component, style),
        ...fateLines(component, component.tags, style),
        `  ${style.faint(transferLine(component.transfer, { dryRun }))}`,
      ].join('\n'),
    );
  }
  const weighing = (weight: Weight): DeliveredResult[] => ordered.filter((component) => weightOf(component) === weight);
  const unchanged = weighing('unchanged');
  return [
    ...alike(weighing('changed')).map((group) => groupText(group, componentLines(group, style), style)),
    ...alike(weighing('held')).map((group) => groupText(group, [style.strong(nameList(group))], style)),
    ...(unchanged.length === 0 ? [] : [style.faint(`unchanged: ${nameList(unchanged)}`)]),
  ];
}

/** Components whose tags fared alike: their heads, and what became of the tags of each. */
function groupText(group: readonly DeliveredResult[], heads: readonly string[], style: Style): string {
  const fate = group.slice(0, 1).flatMap((component) => fateLines(component, toldTags(component), style));
  const each = group.length > 1 ? [style.faint(`  each of these ${group.length}:`)] : [];
  return [...heads, ...each, ...fate].join('\n');
}

/** How many tags fared how: `27 unchanged, 2 moved, 1 held`. */
export function tagCounts(components: readonly { readonly tags: readonly TagResult[] }[], style: Style): string {
  const counts = new Map<string, number>();
  components.flatMap(({ tags }) => tags).forEach(({ outcome }) => counts.set(outcome, (counts.get(outcome) ?? 0) + 1));
  const order = ['created', 'moved', 'restored', 'removed', 'held', 'refused', 'unchanged'];
  const parts = order.filter((each) => counts.has(each)).map((each) => `${counts.get(each) ?? 0} ${each}`);
  return `${style.strong('Tags: ')} ${parts.join(', ') || 'none'}`;
}

/** Whether everything was there before. */
export function changesNothing(components: readonly DeliveredResult[]): boolean {
  return (
    keepsTags(components) &&
    components.every(({ transfer, referrers }) => transfer.blobsSent === 0 && referrers.brought === 0)
  );
}

/** Whether every tag stays as it is. */
export function keepsTags(components: readonly DeliveredResult[]): boolean {
  return components.every(
    ({ tags }) =>
      tags.some(({ outcome }) => outcome === 'unchanged') && tags.every(({ outcome }) => staysAsItIs(outcome)),
  );
}

/** Whether every tag was held. */
export function leadsNowhere(components: readonly DeliveredResult[]): boolean {
  return components.every(({ tags }) => tags.every(({ outcome }) => outcome === 'held'));
}

/** Whether tags that stood elsewhere were put right, and nothing else was done. */
export function onlyRestores(components: readonly DeliveredResult[]): boolean {
  const outcomes = components.flatMap(({ tags }) => tags.map(({ outcome }) => outcome));
  return outcomes.includes('restored') && outcomes.every((outcome) => outcome === 'restored' || staysAsItIs(outcome));
}

/** The tags that stood elsewhere than the ledger says. */
export function driftBlock(
  components: readonly { readonly repository: string; readonly tags: readonly TagResult[] }[],
  style: Style,
): string[] {
  const lines = components.flatMap(({ repository, tags }) =>
    tags.flatMap(({ tag, drift }) => {
      if (drift === null) {
        return [];
      }
      const stood = drift.served === null ? 'gone' : shortDigest(drift.served);
      return [`  ${repository}:${tag}  ${stood}, the ledger says ${shortDigest(drift.recorded)}`];
    }),
  );
  return lines.length === 0
    ? []
    : [
        `${style.notice('These tags differ from the ledger')} (moved by hand, or by a run that is in progress or was killed):\n${lines.join('\n')}`,
      ];
}

/** The first names of some components, and how many more there are. */
export function nameList(components: readonly { readonly component: string }[]): string {
  return nameFew(
    components.map(({ component }) => component),
    'component',
  );
}

/** The first of some names, and how many more there are. `noun`: what they name. */
export function nameFew(names: readonly string[], noun: string): string {
  const listed = names.slice(0, namesListed).join(', ');
  const more = names.length - namesListed;
  return more <= 0 ? listed : `${listed} and ${more} more (${formatCount(names.length, noun)})`;
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

/** The tags of a component of which something is to be told: what is as it was is counted. */
export function toldTags({ tags }: { readonly tags: readonly TagResult[] }): TagResult[] {
  return tags.filter(({ outcome }) => outcome !== 'unchanged');
}

/** What became of tags of a component, and which rules gave none. */
function fateLines({ omitted }: DeliveredResult, tags: readonly TagResult[], style: Style): string[] {
  return [
    ...tagLines(tags, style),
    ...omitted.map(({ rule, missing }) => `  ${style.faint(`no tag from ${rule}: there is no ${missing}`)}`),
  ];
}

/** Groups components whose tags fared alike, for the same reasons. */
function alike(components: readonly DeliveredResult[]): DeliveredResult[][] {
  return grouped(components, (component) => [toldTags(component), component.omitted]);
}
