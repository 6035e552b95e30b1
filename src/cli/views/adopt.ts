import { formatCount, formatSeconds } from '../../core/amounts';
import { shortCommit } from '../../core/commit';
import { grouped } from '../../core/grouped';
import { shortDigest } from '../../core/oci/digest';
import type { AdoptResult } from '../../results/adopt';
import type { Screen } from '../answer';
import { componentsListed, nameList, placeOf } from './components';
import { columns } from './format';
import { nextLines } from './next';
import type { Style } from './style';

type Environment = AdoptResult['environments'][number];
type Adopted = Environment['components'][number];

/** What `adopt` answers to people. */
export function adoptView(result: AdoptResult, screen: Screen): string {
  const { environments, requests, next } = result;
  const { style, elapsed } = screen;
  const looked = style.faint(
    `No tag was changed; ${formatCount(requests, 'request')}, ${formatSeconds(elapsed / 1000)}`,
  );
  return [
    ...environments.map((each) => environmentBlock(each, result, screen)),
    ...noteBlocks(result, style),
    looked,
    ...(next.length === 0 ? [] : [nextLines(next, style).join('\n')]),
  ].join('\n\n');
}

/** What an environment serves, release by release, then what is the newest of lines and branches beside. */
function environmentBlock(
  { environment, components, absent }: Environment,
  { dryRun }: AdoptResult,
  { style, verbose }: Screen,
): string {
  const recorded = components.filter(({ way }) => way !== 'left');
  const isKnown = recorded.every(({ known }) => known);
  const served = recorded.filter(({ way }) => way === 'takes-over');
  const beside = recorded.filter(({ way }) => way === 'beside');
  const name = style.strong(environment);
  const title = isKnown
    ? `Nothing to do: ${name} was adopted already`
    : `${dryRun ? 'Would adopt' : 'Adopted'} ${name}: it serves ${releaseNames(served, style)}`;
  const places = new Set(recorded.map((each) => placeOf(each, { several: recorded.length > 1 })));
  const listed = verbose ? served : served.slice(0, componentsListed);
  const rest = served.length - listed.length;
  const head = ['component', 'release', ...(verbose ? ['digest'] : []), 'tags', 'version by', 'commit by'];
  const rows = [head, ...listed.map((each) => rowOf(each, { verbose }))];
  const lines = grouped(beside, ({ version, commit }) => [version, commit]).map((group) => {
    const [{ lines: own }] = group;
    return `  ${style.faint(`also ${releaseName(group[0])} on ${own.join(', ')}: ${nameList(group)}`)}`;
  });
  return [
    title,
    ...columns(rows, '  ', (cell, column, row) => (row > 0 && column === 0 ? style.strong(cell) : style.faint(cell))),
    ...(rest === 0 ? [] : [`  and ${rest} more`]),
    ...(verbose ? beside.map((each) => `  ${style.faint(rowOf(each, { verbose }).join('  '))}`) : lines),
    ...absent.map(({ component, why }) => `  ${style.notice(component)}  not adopted: ${why}`),
    `  ${style.faint(`in ${[...places].join(', ')}`)}`,
  ].join('\n');
}

function rowOf(each: Adopted, { verbose }: { readonly verbose: boolean }): string[] {
  const { component, digest, tags, told } = each;
  const own = tags.map(({ tag }) => tag).join(' ');
  const { version, commit } = told;
  return [component, releaseName(each), ...(verbose ? [shortDigest(digest)] : []), own, version ?? '–', commit];
}

function releaseName({ version, commit }: Adopted): string {
  return version === null ? shortCommit(commit) : `${version} (${shortCommit(commit)})`;
}

function releaseNames(served: readonly Adopted[], style: Style): string {
  return [...new Set(served.map(({ version, commit }) => version ?? shortCommit(commit)))]
    .map((each) => style.strong(each))
    .join(', ');
}

/** What somebody should look at. */
function noteBlocks({ environments, left, contradictions }: AdoptResult, style: Style): string[] {
  const others = environments.flatMap(({ environment, components }) =>
    components.flatMap(({ component, version, commit, claimed }) =>
      claimed === null
        ? []
        : [
            `${component} in ${environment} names the commit ${shortCommit(claimed)}; ${version ?? 'its release'} is ${shortCommit(commit)}`,
          ],
    ),
  );
  const notes = [
    ...contradictions.map(({ component, version, places }) => {
      const where = places.map(({ repository, digest }) => `${shortDigest(digest)} in ${repository}`).join(', ');
      return `${component} ${version} is not the same everywhere: ${where}`;
    }),
    ...others,
    ...left.map(({ repository, tag, why }) => `${repository}:${tag} was left alone: ${why}`),
    ...environments.flatMap(({ components }) =>
      components.flatMap(({ way, repository, tags }) =>
        way === 'left'
          ? [`${repository}:${tags.map(({ tag }) => tag).join(' ')} was left alone: it is the newest of no line`]
          : [],
      ),
    ),
  ];
  return notes.length === 0 ? [] : [notes.map((note) => style.notice(note)).join('\n')];
}
