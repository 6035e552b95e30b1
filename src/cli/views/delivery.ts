import type { GateResult } from '../../results/common';
import type { DeliveredResult } from '../../results/delivery';
import type { PromoteResult } from '../../results/promote';
import type { PublishResult } from '../../results/publish';
import type { Look } from '../answer';
import { shortCommit } from '../../core/commit';
import { astrayBlock, changesNothing, imageBlocks, leadsNowhere, nameList, onlyRestores, tagCounts } from './images';
import type { Style } from './style';
import { totalLine } from './transfer';

/** What `publish` answers to people. */
export function publishView(result: PublishResult, look: Look): string {
  const { style } = look;
  const branch = result.branch === null ? '' : ` on ${result.branch}`;
  const name = `${releaseName(result, style)}${branch}`;
  const environment = style.strong(result.environment);
  const verbs = result.dryRun
    ? { done: 'Would publish', restored: 'Would restore', sent: 'Would upload' }
    : { done: 'Published', restored: 'Restored', sent: 'Uploaded' };
  const title = changesNothing(result.images)
    ? `Nothing to do: ${environment} has ${name} already`
    : onlyRestores(result.images)
      ? `${verbs.restored} tags of ${name} in ${environment}`
      : leadsNowhere(result.images)
        ? `${verbs.sent} ${name} to ${environment}: no tag leads to it`
        : `${verbs.done} ${name} to ${environment}`;
  const unmet = result.gates.filter(({ outcome }) => outcome === 'unmet');
  return blocks(
    astrayBlock(result.images, style),
    [
      unmet.length > 0 ? refusedTitle(`publish ${name} to ${environment}`, unmet, style) : title,
      ...versionLine(result, style),
    ],
    unmet.length === 0 ? [] : [gateLines(unmet, style).join('\n')],
    imageBlocks(result.images, look),
    wayLines(result.images, result.environment, style),
    leftoverLines(result.leftovers, style),
    [`${tagCounts(result.images, style)}\n${totalLine(result.images, look)}`],
  );
}

/** Rules that hold for everything; they are told where they are not met, or all is asked for. */
const everyday = ['fixed-tags', 'some-tag', 'in-order', 'comes-in'];

/** What `promote` answers to people. */
export function promoteView(result: PromoteResult, look: Look): string {
  const { style, verbose } = look;
  const { from, dryRun, images } = result;
  const name = promotedName(result, style);
  const to = style.strong(result.to);
  const unmet = result.gates.filter(({ outcome }) => outcome === 'unmet');
  const title =
    unmet.length > 0
      ? refusedTitle(`promote ${name} from ${from} to ${to}`, unmet, style)
      : changesNothing(images)
        ? `Nothing to do: ${to} has ${name} already`
        : onlyRestores(images)
          ? `${dryRun ? 'Would restore' : 'Restored'} tags of ${name} in ${to}`
          : `${dryRun ? 'Would promote' : 'Promoted'} ${name} from ${from} to ${to}`;
  const shown = result.gates.filter(({ gate, outcome }) => verbose || outcome === 'unmet' || !everyday.includes(gate));
  return blocks(
    astrayBlock(images, style),
    [title, ...gateLines(shown, style)],
    imageBlocks(images, look),
    wayLines(images, result.to, style),
    [`${tagCounts(images, style)}\n${totalLine(images, look)}`],
  );
}

/** A head, and blocks around it, with an empty line between each. */
function blocks(before: readonly string[], head: readonly string[], ...others: readonly (readonly string[])[]): string {
  return [...before, head.join('\n'), ...others.flat()].join('\n\n');
}

function refusedTitle(work: string, unmet: readonly GateResult[], style: Style): string {
  const count = unmet.length === 1 ? 'a rule is not met' : `${unmet.length} rules are not met`;
  return `${style.bad('Would not')} ${work}: ${count}`;
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

/** How images came in, where they did not all take over. */
function wayLines(images: readonly DeliveredResult[], environment: string, style: Style): string[] {
  const groups = new Map<string, DeliveredResult[]>();
  for (const image of images.filter(({ way }) => way !== 'takes-over')) {
    const key = JSON.stringify([image.way, image.wayReason, image.serves]);
    groups.set(key, [...(groups.get(key) ?? []), image]);
  }
  return [...groups.values()].flatMap((group) => {
    const [first] = group;
    if (first === undefined) {
      return [];
    }
    const what = group.length === images.length ? 'this release' : nameList(group);
    const way = first.way === 'beside' ? 'came beside it' : 'is held';
    const serves = first.serves ?? 'nothing of it';
    return [
      `${style.notice(`${environment} goes on serving ${serves}`)}: ${what} ${way}.\n  ${style.faint(first.wayReason)}`,
    ];
  });
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
    : [style.faint(`The registry removes no tags for us; these protected what was staged, and can go:${text}`)];
}

/** A release as people name it. */
export function releaseName(
  { product, version, commit }: { product: string; version: string | null; commit: string },
  style: Style,
): string {
  const name = version === null ? product : `${product} ${version}`;
  return `${style.strong(name)} (${shortCommit(commit)})`;
}

function promotedName({ product, version, commit, images }: PromoteResult, style: Style): string {
  if (commit !== null) {
    return releaseName({ product, version, commit }, style);
  }
  const releases = new Set(images.map((image) => image.version ?? shortCommit(image.commit)));
  return `${style.strong(product)} (${[...releases].join(', ')})`;
}
