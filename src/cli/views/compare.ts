import { grouped } from '../../core/grouped';
import { formatBytes, formatCount } from '../../core/amounts';
import { shortCommit } from '../../core/commit';
import { shortDigest } from '../../core/oci/digest';
import type { CompareResult } from '../../results/compare';
import type { PathDifferenceResult } from '../../results/inside';
import type { Screen } from '../answer';
import { cell, codeReference } from './ci';
import { componentsListed, nameList, originOf } from './components';
import { pathCounts, pathLines } from './inside';
import type { Style } from './style';

type ComparedComponent = CompareResult['components'][number];
type Changed = ComparedComponent['platforms']['changed'][number];
type Commit = NonNullable<CompareResult['commits']>['added'][number];

/** So many commits are shown where not all are asked for. */
const commitsShown = 12;
/** So many paths of a platform. */
const pathsShown = 12;

/** What differs: commits first, then what changed, and what did not in a line. */
export function compareView(result: CompareResult, { style, verbose }: Screen): string {
  const { from, to, commits, gap, components } = result;
  const title = `${style.strong(nameOf(from))} → ${style.strong(nameOf(to))}`;
  const same = components.filter(({ state }) => state === 'same');
  const leftOut = components.filter(({ state }) => state === 'left-out');
  const changed = components.filter(({ state }) => state !== 'same' && state !== 'left-out');
  const all = components.length - leftOut.length;
  const shown = verbose ? changed : changed.slice(0, componentsListed);
  const blocks = [
    [title, ...(commits === null ? [style.faint(`  commits: ${gap ?? 'not known'}`)] : [])].join('\n'),
    ...(commits === null ? [] : [commitLines(commits.added, { title: 'in it now', all }, style, verbose)]),
    ...(commits === null || commits.left.length === 0
      ? []
      : [commitLines(commits.left, { title: style.bad('not in it any more'), all }, style, verbose)]),
    ...shown.map((component) => componentBlock(component, style, verbose)),
    ...(changed.length === shown.length
      ? []
      : [`and ${changed.length - shown.length} more: ${nameList(changed.slice(shown.length))} (--verbose)`]),
    ...(same.length === 0
      ? []
      : [`${style.faint('the same:')} ${same.length === 1 && same[0]?.component === '' ? 'both' : nameList(same)}`]),
    ...leftOutLines(result, style.faint),
  ];
  return blocks.filter((block) => block !== '').join('\n\n');
}

/** Components that one side, a release of a part of the product, says nothing of. */
function leftOutLines({ from, to, components }: CompareResult, faint: (text: string) => string): string[] {
  const of = (side: CompareResult['from'], lacks: ComparedComponent[]): string[] =>
    lacks.length === 0 ? [] : [`${faint(`not part of ${nameOf(side)}:`)} ${nameList(lacks)}`];
  const all = components.filter(({ state }) => state === 'left-out');
  return [
    ...of(
      from,
      all.filter(({ from: one }) => one === null),
    ),
    ...of(
      to,
      all.filter(({ to: other }) => other === null),
    ),
  ];
}

function nameOf({ name, version, commit }: CompareResult['from']): string {
  const is = version ?? (commit === null ? undefined : shortCommit(commit));
  return is === undefined || is === name ? name : `${name} (${is})`;
}

/** `all`: of how many components; a commit that concerns fewer says which. */
function commitLines(
  commits: readonly Commit[],
  { title, all }: { title: string; all: number },
  style: Style,
  verbose: boolean,
): string {
  if (commits.length === 0) {
    return '';
  }
  const shown = verbose ? commits : commits.slice(0, commitsShown);
  const more = commits.length - shown.length;
  return [
    `${formatCount(commits.length, 'commit')} ${title}`,
    ...shown.map(
      ({ commit, subject, author, components }) =>
        `  ${style.faint(shortCommit(commit))}  ${subject}  ${style.faint([author, ...concerned(components, all)].join(', '))}`,
    ),
    ...(more === 0 ? [] : [style.faint(`  and ${more} more (--verbose)`)]),
  ].join('\n');
}

function concerned(components: readonly string[], all: number): string[] {
  return components.length < all ? [`in ${nameList(components.map((component) => ({ component })))}`] : [];
}

function componentBlock(
  { component, was, state, from, to, files, platforms }: ComparedComponent,
  style: Style,
  verbose: boolean,
): string {
  const mark =
    state === 'removed' ? style.bad('removed') : state === 'added' ? style.good('added') : style.notice('changed');
  return [
    [
      ...(component === '' ? [] : [style.strong(component)]),
      mark,
      ...(was === null ? [] : [style.notice(`renamed, was ${was}`)]),
    ].join('  '),
    ...(from === null ? [] : [style.faint(`  - ${shortReference(from)}`)]),
    ...(to === null ? [] : [style.faint(`  + ${shortReference(to)}`)]),
    ...(files === null ? [] : differingPaths(files, style, verbose).map((line) => `  ${line}`)),
    ...platforms.added.map((platform) => `  ${platform}  ${style.good('added')}`),
    ...platforms.removed.map((platform) => `  ${platform}  ${style.bad('removed')}`),
    ...grouped(
      platforms.changed.map((each) => ({ platform: each.platform, lines: platformLines(each, style, verbose) })),
      ({ lines }) => lines,
    ).flatMap((group) => {
      const [counts = '', ...lines] = group[0].lines;
      return [`  ${group.map(({ platform }) => platform).join(' ')}  ${counts}`, ...lines];
    }),
  ].join('\n');
}

/** A reference with its digest in short. */
function shortReference({ reference, digest, included }: NonNullable<ComparedComponent['from']>): string {
  return [reference.replace(digest, shortDigest(digest)), ...originOf(included)].join('  ');
}

/** What changed for a platform: the same of several is told once. */
function platformLines({ from, to, layers, says, inside }: Changed, style: Style, verbose: boolean): string[] {
  const bytes = layers.added.reduce((sum, { size }) => sum + size, 0);
  const counts = [
    `${formatBytes(from.size)} → ${formatBytes(to.size)}`,
    `${formatCount(layers.added.length, 'layer')} new (${formatBytes(bytes)})`,
    ...(layers.removed.length === 0 ? [] : [`${layers.removed.length} gone`]),
    `${layers.shared} shared`,
  ].join(', ');
  return [
    counts,
    ...says.map((each) => {
      const name = each.name === '' ? each.what : `${each.what} ${each.name}`;
      return `    ${name}: ${style.faint(each.from ?? 'nothing')} → ${each.to ?? 'nothing'}`;
    }),
    ...(inside === null ? [] : differingPaths(inside, style, verbose).map((line) => `    ${line}`)),
  ];
}

function differingPaths(paths: PathDifferenceResult, style: Style, verbose: boolean): string[] {
  return [pathCounts(paths), ...pathLines(paths, style, verbose ? Infinity : pathsShown)];
}

/** The same for the notes of a release. */
export function compareMarkdown(result: CompareResult): string {
  const { from, to, commits, gap, components: all } = result;
  const components = all.filter(({ state }) => state !== 'left-out');
  const list = (title: string, listed: readonly Commit[]): string[] =>
    listed.length === 0
      ? []
      : [
          `### ${title}`,
          '',
          ...listed.map(
            ({ commit, subject, author, components: of }) =>
              `- ${cell(subject)} (\`${shortCommit(commit)}\`, ${[author, ...concerned(of, components.length)].map(cell).join(', ')})`,
          ),
          '',
        ];
  const rows = components.map(({ component, state, to: placed, platforms: { added, removed, changed } }) => {
    const sizes = changed.map(
      ({ platform, from: was, to: is }) => `${platform}: ${formatBytes(was.size)} → ${formatBytes(is.size)}`,
    );
    const platforms = [...added.map((each) => `${each} added`), ...removed.map((each) => `${each} removed`), ...sizes];
    return `| ${cell(component)} | ${state} | ${platforms.map(cell).join('<br>')} | ${placed === null ? '' : codeReference(placed.reference)} |`;
  });
  return [
    `## ${cell(nameOf(from))} → ${cell(nameOf(to))}`,
    '',
    ...(commits === null ? [`Commits: ${cell(gap ?? 'not known')}`, ''] : []),
    ...list('Commits', commits?.added ?? []),
    ...list('Not in it any more', commits?.left ?? []),
    '| component | | platforms | pull by digest |',
    '| --- | --- | --- | --- |',
    ...rows,
    ...leftOutLines(result, (text) => text).flatMap((line) => ['', cell(line)]),
  ].join('\n');
}
