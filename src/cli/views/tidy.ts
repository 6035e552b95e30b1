import { formatBytes, formatCount, formatSeconds } from '../../core/amounts';
import { shortCommit } from '../../core/commit';
import { shortDigest } from '../../core/oci/digest';
import type { TidyResult } from '../../results/tidy';
import type { Screen } from '../answer';
import { columns } from './format';
import type { Style } from './style';

type TidiedRepository = TidyResult['repositories'][number];
type Staying = TidiedRepository['stays'][number];
type Reason = Staying['reasons'][number];

/** So many repositories, and so much of what looks old and stays, are listed. */
const [repositoriesListed, oldListed] = [20, 8];

/** What `tidy` answers to people. */
export function tidyView(result: TidyResult, { style, elapsed, verbose }: Screen): string {
  const { repositories, requests } = result;
  const unread = repositories.flatMap(({ repository, unread }) =>
    unread === null ? [] : [`${style.bad('not looked through')}  ${repository}  ${style.faint(unread)}`],
  );
  return [
    [titleOf(result, style), ...keepLines(result, style)].join('\n'),
    ...block(repositoryLines(result, style, verbose)),
    ...block(unread),
    ...block(leftLines(result, style)),
    ...block(verbose ? goingLines(repositories, style) : []),
    ...block(reasonLines(repositories, style)),
    ...block(oldLines(repositories, style, verbose)),
    ...block(unknownLines(repositories, style, verbose)),
    [
      ...nextOf(result, style),
      style.faint(`${formatCount(requests, 'request')}, ${formatSeconds(elapsed / 1000)}`),
    ].join('\n'),
  ].join('\n\n');
}

function block(lines: readonly string[]): string[] {
  return lines.length === 0 ? [] : [lines.join('\n')];
}

function titleOf({ repositories, dryRun, finished }: TidyResult, style: Style): string {
  const goes = repositories.flatMap((each) => each.goes);
  const meant = dryRun ? goes : goes.filter(({ outcome }) => outcome === 'removed');
  const tags = meant.reduce((sum, each) => sum + each.tags.length, 0);
  const earlier =
    finished === 0
      ? ''
      : `; finished removing ${formatCount(finished, 'digest')} that an earlier run had begun to remove`;
  if (goes.length === 0) {
    const unread = repositories.filter((each) => each.unread !== null).length;
    const all = formatCount(repositories.length, 'repository', 'repositories');
    return unread === 0
      ? `Nothing to remove${earlier}`
      : unread === repositories.length
        ? style.bad(`Could not look through ${all}`) + earlier
        : `Nothing to remove in ${repositories.length - unread} of ${all}${earlier}`;
  }
  const [frees, holds] = [sum(repositories, 'frees'), sum(repositories, 'holds')];
  const what = `${style.strong(formatCount(meant.length, 'digest'))} with ${formatCount(tags, 'tag')}`;
  return dryRun
    ? `Would remove ${what}: frees ${style.strong(formatBytes(frees))} of ${formatBytes(holds)}`
    : `Removed ${what}; the registry frees the room when it next collects garbage${earlier}`;
}

function keepLines({ environments }: TidyResult, style: Style): string[] {
  const rows = environments.map(({ environment, keep }) => [
    environment,
    keep === null ? 'keeps everything (no `keep` in hod.yaml)' : `keeps ${keep}`,
  ]);
  return columns(rows, '  ', (cell, column) => (column === 0 ? style.strong(cell) : style.faint(cell)));
}

function sum(repositories: readonly TidiedRepository[], of: 'frees' | 'holds'): number {
  return repositories.reduce((total, each) => total + (each[of] ?? 0), 0);
}

/** A line for each repository; those that free the most first. */
function repositoryLines({ repositories }: TidyResult, style: Style, verbose: boolean): string[] {
  const sorted = [...repositories]
    .filter(({ goes, unknown }) => verbose || goes.length > 0 || unknown.length > 0)
    .sort((a, b) => (b.frees ?? 0) - (a.frees ?? 0));
  const shown = sorted.slice(0, verbose ? undefined : repositoriesListed);
  const whole = repositories.filter((each) => each.unread === null && !sorted.includes(each)).length;
  if (sorted.length === 0) {
    return [];
  }
  const rows = [
    ['repository', 'goes', 'tags', 'frees', 'of', 'stays', 'unknown'],
    ...shown.map(({ repository, goes, stays, unknown, frees, holds }) => [
      repository,
      `${goes.length}`,
      `${goes.reduce((count, { tags }) => count + tags.length, 0)}`,
      frees === null ? '-' : formatBytes(frees),
      holds === null ? '-' : formatBytes(holds),
      `${stays.length}`,
      unknown.length === 0 ? '' : `${unknown.length}`,
    ]),
  ];
  return [
    ...columns(rows, '  ', (cell, column, row) =>
      row === 0 ? style.faint(cell) : column === 0 ? style.strong(cell) : cell,
    ),
    ...(sorted.length > shown.length
      ? [`  and ${formatCount(sorted.length - shown.length, 'more repository', 'more repositories')}`]
      : []),
    ...(whole > 0
      ? [style.faint(`  Nothing goes from ${formatCount(whole, 'other repository', 'other repositories')}.`)]
      : []),
  ];
}

/** What registries did not let go, by the reason. */
function leftLines({ repositories }: TidyResult, style: Style): string[] {
  const left = repositories.flatMap(({ repository, goes }) =>
    goes.filter(({ outcome }) => outcome === 'left').map(({ why }) => `${repository}: ${why ?? ''}`),
  );
  return [...new Set(left)].map(
    (text) =>
      `${style.bad('not removed')}  ${formatCount(left.filter((each) => each === text).length, 'digest')} of ${text}; the next run tries again`,
  );
}

function goingLines(repositories: readonly TidiedRepository[], style: Style): string[] {
  const rows = repositories.flatMap(({ goes }) =>
    goes.map((each) => [nameOf(each), shortDigest(each.digest), each.tags.join(', ')]),
  );
  return rows.length === 0
    ? []
    : ['What goes:', ...columns(rows, '  ', (cell, column) => (column === 0 ? cell : style.faint(cell)))];
}

/** How much stays for which reason: the first that there is. */
function reasonLines(repositories: readonly TidiedRepository[], style: Style): string[] {
  const counts = new Map<string, number>();
  const staying = repositories.flatMap(({ stays }) => stays);
  for (const { reasons } of staying) {
    const [first] = reasons;
    const text = first === undefined ? 'it goes with a later batch' : kindOfReason(first);
    counts.set(text, (counts.get(text) ?? 0) + 1);
  }
  const rows = [...counts].sort(([, a], [, b]) => b - a).map(([text, count]) => [`${count}`.padStart(6), text]);
  return rows.length === 0
    ? []
    : [
        `Why ${formatCount(staying.length, 'digest')} ${staying.length === 1 ? 'stays' : 'stay'}:`,
        ...columns(rows, '', (cell, column) => (column === 0 ? style.strong(cell) : cell)),
      ];
}

/** Reasons that have nothing to do with age or number: what stays by them alone looks as if it could go. */
const byRule: readonly string[] = ['releases', 'branches', 'time', 'all', 'uploaded'];

/** What the rules of its environments would let go, and what it stays for. */
function oldLines(repositories: readonly TidiedRepository[], style: Style, verbose: boolean): string[] {
  const old = repositories
    .flatMap(({ stays }) => stays)
    .filter(({ reasons }) => reasons.length > 0 && !reasons.some(({ why }) => byRule.includes(why)))
    // That an environment keeps what it serves itself surprises nobody.
    .filter(
      ({ reasons: [first], environments }) =>
        first?.why !== 'served' || !environments.includes(first.environment ?? ''),
    );
  const shown = old.slice(0, verbose ? undefined : oldListed);
  const rows = shown.map((each) => [nameOf(each), each.environments.join(', '), describeReason(each.reasons[0])]);
  return rows.length === 0
    ? []
    : [
        'Stays although `keep` would let it go:',
        ...columns(rows, '  ', (cell, column) => (column === 1 ? style.faint(cell) : cell)),
        ...(old.length > shown.length ? [`  and ${old.length - shown.length} more (--verbose)`] : []),
      ];
}

function unknownLines(repositories: readonly TidiedRepository[], style: Style, verbose: boolean): string[] {
  const tags = repositories.flatMap(({ repository, unknown }) => unknown.map((tag) => `${repository}:${tag}`));
  const shown = tags.slice(0, verbose ? undefined : oldListed);
  return tags.length === 0
    ? []
    : [
        `Unknown to the ledger, and stays: ${formatCount(tags.length, 'tag')}`,
        ...shown.map((tag) => `  ${style.faint(tag)}`),
        ...(tags.length > shown.length ? [`  and ${tags.length - shown.length} more (--verbose)`] : []),
      ];
}

function nextOf({ repositories, dryRun, environments }: TidyResult, style: Style): string[] {
  const isAny = repositories.some(({ goes }) => goes.length > 0);
  const names = environments.map(({ environment }) => environment).join(' ');
  return dryRun && isAny ? [`${style.strong(`hod tidy ${names} --remove`)} removes it.`] : [];
}

/** A component and its latest release, as people know it. */
function nameOf({ components, releases, digest }: Pick<Staying, 'components' | 'releases' | 'digest'>): string {
  const [latest] = releases;
  if (components.length === 0) {
    return `unknown ${shortDigest(digest)}`;
  }
  const release = latest === undefined ? shortDigest(digest) : (latest.version ?? shortCommit(latest.commit));
  return `${components.join(', ')} ${release}`;
}

/** A reason, without what differs from one digest to the next. */
function kindOfReason({ why, environment }: Reason): string {
  switch (why) {
    case 'served':
      return `${environment ?? ''} serves it`;
    case 'rollback':
      return `a rollback of ${environment ?? ''} may need it`;
    case 'withdrawn':
      return `it was withdrawn from ${environment ?? ''}, and nothing has replaced it`;
    case 'released':
      return `${environment ?? ''} has served its version (--versions lets it go)`;
    case 'releases':
    case 'branches':
    case 'time':
    case 'all':
      return `${environment ?? ''} keeps it`;
    case 'uploaded':
      return 'it was uploaded during the last day';
    case 'tag':
      return 'a tag leads to it';
    case 'shared':
      return 'another product has it too';
    case 'part':
      return 'it is part of an index that stays';
  }
}

function describeReason(reason: Reason | undefined): string {
  if (reason === undefined) {
    return '';
  }
  const { why, environment, of } = reason;
  switch (why) {
    case 'released':
      return `${environment ?? ''} has served ${of ?? ''} (--versions lets it go)`;
    case 'tag':
      return `the tag ${of ?? ''} leads to it`;
    case 'shared':
      return `the product ${of ?? ''} has it too`;
    default:
      return kindOfReason(reason);
  }
}
