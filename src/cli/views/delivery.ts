import { grouped } from '../../core/grouped';
import type { GateResult, NextStep } from '../../results/common';
import type { DeliveredResult, MovedResult } from '../../results/delivery';
import type { PromoteResult } from '../../results/promote';
import type { PublishResult } from '../../results/publish';
import type { Screen } from '../answer';
import { formatCount } from '../../core/amounts';
import { shortCommit } from '../../core/commit';
import { shortDigest } from '../../core/oci/digest';
import {
  driftBlock,
  changesNothing,
  componentBlocks,
  keepsTags,
  leadsNowhere,
  nameList,
  onlyRestores,
  tagCounts,
} from './components';
import { repositoryPattern } from '../../core/tags/repository-pattern';
import { nextLines } from './next';
import type { Style } from './style';
import { totalLine } from './transfer';

/** What `publish` answers to people. */
export function publishView(result: PublishResult, screen: Screen): string {
  const { style } = screen;
  const { components, gates, dryRun } = result;
  const branch = result.branch === null ? '' : ` on ${result.branch}`;
  const name = `${releaseTitle(result, style)}${branch}`;
  const environment = style.strong(result.environment);
  const unmet = gates.filter(({ outcome }) => outcome === 'unmet');
  const nowhere = leadsNowhere(components);
  const title = titleOf({ components, unmet, name, environment, dryRun }, style, {
    work: `publish ${name} to ${environment}`,
    done: `${doneWord(dryRun, nowhere ? 'upload' : 'publish')} ${name} to ${environment}${nowhere ? ': no tag points to it' : besideWords(components)}`,
  });
  return blocks(
    driftBlock(components, style),
    [title, ...versionLine(result, style)],
    unmet.length === 0 ? [] : [gateLines(unmet, style).join('\n')],
    componentBlocks(result, screen),
    wayLines(components, result.environment, style),
    retiringLines(result, result.environment, style),
    movedLines(result.moved, result.environment, dryRun, style),
    referrerLines(components, dryRun, style),
    // Told by the run that published, and not by each that finds everything as it was.
    changesNothing(components) && !screen.verbose ? [] : leftoverLines(result.leftovers, style),
    gitTagLines(result.gitTag, style),
    [`${tagCounts(components, style)}\n${totalLine(result, screen)}`],
    nextBlock(result.next, screen),
  );
}

/** What became of the git tag of the version. */
function gitTagLines(gitTag: PublishResult['gitTag'], style: Style): string[] {
  if (gitTag === null) {
    return [];
  }
  const { tag, remote, outcome, reason } = gitTag;
  const where = remote === null ? '' : ` in ${remote}`;
  return outcome === 'created' || outcome === 'unchanged'
    ? [`git tag ${style.strong(tag)}${where}: ${outcome}`]
    : [`${style.bad(`git tag ${tag} was not written`)}${where}: ${reason}`, style.faint('  everything else is done')];
}

/** Rules that hold for everything; they are told where they are not met, or all is asked for. */
const everyday = ['fixed-tags', 'some-tag', 'in-order', 'comes-in'];

/** What `promote` answers to people. */
export function promoteView(result: PromoteResult, screen: Screen): string {
  const { style, verbose } = screen;
  const { from, dryRun, components, gates } = result;
  const name = promotedName(result, style);
  const environment = style.strong(result.to);
  const unmet = gates.filter(({ outcome }) => outcome === 'unmet');
  const way = `${name} from ${from} to ${environment}`;
  const mended = result.moved?.alone === true && unmet.length === 0;
  const title = mended
    ? `${doneWord(dryRun, 'move')} ${environment}, which serves ${name} as before`
    : titleOf({ components, unmet, name, environment, dryRun }, style, {
        work: `promote ${way}`,
        done: `${doneWord(dryRun, 'promote')} ${way}${besideWords(components)}`,
      });
  const shown = gates.filter(({ gate, outcome }) => verbose || outcome === 'unmet' || !everyday.includes(gate));
  return blocks(
    driftBlock(components, style),
    [title, ...gateLines(shown, style)],
    componentBlocks(result, screen),
    wayLines(components, result.to, style),
    retiringLines(result, result.to, style),
    movedLines(result.moved, result.to, dryRun, style),
    referrerLines(components, dryRun, style),
    [`${tagCounts(components, style)}\n${totalLine(result, screen)}`],
    nextBlock(result.next, screen),
  );
}

const doneWords = {
  publish: 'Published',
  upload: 'Uploaded',
  promote: 'Promoted',
  restore: 'Restored',
  bring: 'Brought',
  mend: 'Mended',
  move: 'Moved',
} as const;

function doneWord(dryRun: boolean, verb: keyof typeof doneWords): string {
  return dryRun ? `Would ${verb}` : doneWords[verb];
}

/** What became of a delivery, in a line. `work` is what was to be done, `done` that it was. */
function titleOf(
  about: {
    components: readonly DeliveredResult[];
    unmet: readonly GateResult[];
    name: string;
    environment: string;
    dryRun: boolean;
  },
  style: Style,
  { work, done }: { work: string; done: string },
): string {
  const { components, unmet, name, environment, dryRun } = about;
  if (unmet.length > 0) {
    const count = unmet.length === 1 ? '1 rule is not met' : `${unmet.length} rules are not met`;
    return `${style.bad('Would not')} ${work}: ${count}`;
  }
  if (changesNothing(components)) {
    return `Nothing to do: ${environment} has ${name} already`;
  }
  if (keepsTags(components)) {
    const brought = components.reduce((sum, { referrers }) => sum + referrers.brought, 0);
    return brought > 0
      ? `${doneWord(dryRun, 'bring')} referrers of ${name} to ${environment}; no tag changes`
      : `${doneWord(dryRun, 'mend')} ${name} in ${environment}; no tag changes`;
  }
  return onlyRestores(components) ? `${doneWord(dryRun, 'restore')} tags of ${name} in ${environment}` : done;
}

/** Where the environment is now, and what came along. */
function movedLines(moved: MovedResult, environment: string, dryRun: boolean, style: Style): string[] {
  if (moved === null) {
    return [];
  }
  const { components, copied, present, lost, tags } = moved;
  const came =
    copied + present === 0
      ? 'nothing was copied: a rollback finds no earlier release there until `--mend` copies it'
      : `${dryRun ? 'to be copied' : 'copied'}: ${formatCount(copied, 'digest')}; already there: ${present}; ${formatCount(tags, 'tag')}`;
  return [
    [
      ...grouped(components, ({ component, from, repository }) => [
        repositoryPattern(from, component),
        repositoryPattern(repository, component),
      ]).map((group) => {
        const [{ component, from, repository }] = group;
        const [was, is] = [from, repository].map((each) => repositoryPattern(each, component));
        return `${style.notice('moves')}  ${nameList(group)}: ${environment} has ${group.length === 1 ? 'it' : 'them'} in ${is ?? ''} now, not in ${was ?? ''}`;
      }),
      style.faint(`       ${came}`),
      ...lost.map(
        ({ component, digest }) => `  ${style.faint(`in no repository any more: ${component} ${shortDigest(digest)}`)}`,
      ),
    ].join('\n'),
  ];
}

/** Which components the environment serves no more, because the product has them no more, or has them under another name. */
function retiringLines(
  { retires, renames }: Pick<PublishResult, 'retires' | 'renames'>,
  environment: string,
  style: Style,
): string[] {
  return [
    ...renames.map(
      ({ component, was }) =>
        `${style.notice('renamed')}  ${was}: ${environment} serves it as ${component} from now on; the tags of ${was} stay`,
    ),
    ...retires.map(
      (component) => `${style.notice('retires')}  ${component}: ${environment} serves it no more; its tags stay`,
    ),
  ];
}

/** What to run now, where somebody may want to know. */
function nextBlock(next: readonly NextStep[], { style, guiding }: Screen): string[] {
  return guiding && next.length > 0 ? [nextLines(next, style).join('\n')] : [];
}

/** A head, and blocks around it, with an empty line between each. */
function blocks(before: readonly string[], head: readonly string[], ...others: readonly (readonly string[])[]): string {
  return [...before, head.join('\n'), ...others.flat()].join('\n\n');
}

/** A line for each rule, and what would meet it. */
function gateLines(gates: readonly (GateResult & { readonly of?: string })[], style: Style): string[] {
  const several = new Set(gates.map(({ of }) => of)).size > 1;
  return gates.flatMap(({ gate, outcome, detail, remedy, of }) => {
    const about = several && of !== undefined ? ` (${of})` : '';
    const mark = outcome === 'met' ? style.good('met  ') : style.bad('unmet');
    return [
      `  ${mark}  ${gate}${about}: ${style.faint(detail.replaceAll('\n', '; '))}`,
      ...(remedy === null ? [] : [`         ${remedy}`]),
    ];
  });
}

/** How a release came in that did not take over, for its headline. */
function besideWords(components: readonly DeliveredResult[]): string {
  const [way, ...otherWays] = new Set(components.map((each) => each.way));
  const [serves, ...others] = new Set(components.map((each) => each.serves));
  if (otherWays.length > 0 || components.some(({ sameCommit }) => sameCommit)) {
    return '';
  }
  if (way === 'held') {
    return ', held';
  }
  return way === 'beside' && others.length === 0 && serves !== null ? `, beside ${serves ?? ''}` : '';
}

/** How components came in, where they did not all take over. */
function wayLines(components: readonly DeliveredResult[], environment: string, style: Style): string[] {
  const aside = components.filter(({ way }) => way !== 'takes-over');
  return grouped(aside, ({ way, wayReason, serves, sameCommit }) => [way, wayReason, serves, sameCommit]).map(
    (group) => {
      const [{ way, wayReason, serves, sameCommit }] = group;
      const what = group.length === components.length ? 'this release' : nameList(group);
      if (sameCommit) {
        return style.notice(`${environment} already serves ${what}, as ${serves ?? ''}.`);
      }
      const were = group.length === components.length || group.length === 1 ? 'was' : 'were';
      const came = way === 'beside' ? `${were === 'was' ? 'is' : 'are'} beside it` : `${were} held`;
      const going = style.notice(`${environment} still serves ${serves ?? 'nothing of it'}`);
      return `${going}; ${what} ${came}.\n  ${style.faint(wayReason)}`;
    },
  );
}

/** How many referrers were carried with the components. */
function referrerLines(components: readonly DeliveredResult[], dryRun: boolean, style: Style): string[] {
  const sum = (of: 'brought' | 'present'): number => components.reduce((all, { referrers }) => all + referrers[of], 0);
  const [brought, present] = [sum('brought'), sum('present')];
  const left = components.flatMap(({ referrers }) => referrers.left);
  const counts = [
    ...(brought === 0 ? [] : [`${brought} ${dryRun ? 'to be brought' : 'brought'}`]),
    ...(present === 0 ? [] : [`${present} already there`]),
  ];
  return [
    ...(counts.length === 0
      ? []
      : [
          `${style.strong('Referrers:')} ${counts.join(', ')} ${style.faint('(signatures, attestations and the like)')}`,
        ]),
    ...(left.length === 0
      ? []
      : [
          `${style.notice('Left alone:')} something else stands there, which would be lost:\n${left.map((each) => `  ${each}`).join('\n')}`,
        ]),
  ];
}

/** Why it has its version, where that does not go without saying. */
function versionLine({ version, versioning: { outcome, reason } }: PublishResult, style: Style): string[] {
  switch (outcome) {
    case 'none':
    case 'given':
      return [];
    case 'held':
      return [`  ${style.notice('version held:')} ${style.faint(reason)}`];
    case 'next':
    case 'kept':
      return [`  ${version ?? ''}  ${style.faint(reason)}`];
  }
}

function leftoverLines(leftovers: readonly string[], style: Style): string[] {
  const text = leftovers.map((each) => `\n  ${each}`).join('');
  return leftovers.length === 0
    ? []
    : [
        style.faint(
          `The registry removes no tags for us. These tags, which protected staged parts, stay; they do no harm. From now on, one tag,\n` +
            `hod-staged, protects all staged parts of a repository. Before you remove one of these tags, check that the registry does\n` +
            `not remove the manifest with the tag:${text}`,
        ),
      ];
}

/** A release as people name it. */
export function releaseTitle(
  { product, version, commit }: { product: string; version: string | null; commit: string },
  style: Style,
): string {
  const name = version === null ? product : `${product} ${version}`;
  return `${style.strong(name)} (${shortCommit(commit)})`;
}

function promotedName({ product, version, commit, components }: PromoteResult, style: Style): string {
  if (commit !== null) {
    return releaseTitle({ product, version, commit }, style);
  }
  const releases = new Set(components.map((component) => component.version ?? shortCommit(component.commit)));
  return `${style.strong(product)} (${[...releases].join(', ')})`;
}
