import type { PromoteResult } from '../../results/promote';
import type { PublishResult } from '../../results/publish';
import type { Look } from '../answer';
import { shortCommit } from '../../core/commit';
import { changesNothing, imageBlocks, tagCounts } from './images';
import type { Style } from './style';
import { totalLine } from './transfer';

/** What `publish` answers to people. */
export function publishView(result: PublishResult, look: Look): string {
  const { style } = look;
  const branch = result.branch === null ? '' : ` on ${result.branch}`;
  const name = `${releaseName(result, style)}${branch}`;
  const environment = style.strong(result.environment);
  const verb = result.dryRun ? 'Would publish' : 'Published';
  const title = changesNothing(result.images)
    ? `Nothing to do: ${environment} has ${name} already`
    : `${verb} ${name} to ${environment}`;
  return blocks(
    [title, ...versionLine(result, style)],
    imageBlocks(result.images, look),
    goesOnServing(result, result.environment, style),
    leftoverLines(result.leftovers, style),
    [`${tagCounts(result.images, style)}\n${totalLine(result.images, look)}`],
  );
}

/** What `promote` answers to people. */
export function promoteView(result: PromoteResult, look: Look): string {
  const { style } = look;
  const name = releaseName(result, style);
  const verb = result.dryRun ? 'Would promote' : 'Promoted';
  const title = changesNothing(result.images)
    ? `Nothing to do: ${style.strong(result.to)} has ${name} already`
    : `${verb} ${name} from ${result.from} to ${style.strong(result.to)}`;
  const served = result.gates.filter(({ gate }) => gate === 'served-before');
  const shown = look.verbose ? result.gates : served;
  return blocks(
    [title, ...shown.map(({ outcome, detail }) => `  ${style.good(outcome)}  ${style.faint(detail)}`)],
    imageBlocks(result.images, look),
    goesOnServing(result, result.to, style),
    [`${tagCounts(result.images, style)}\n${totalLine(result.images, look)}`],
  );
}

/** A head, and blocks below it, with an empty line between each. */
function blocks(head: readonly string[], ...others: readonly (readonly string[])[]): string {
  return [head.join('\n'), ...others.flat()].join('\n\n');
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

function releaseName(
  { product, version, commit }: Pick<PublishResult, 'product' | 'version' | 'commit'>,
  style: Style,
): string {
  const name = version === null ? product : `${product} ${version}`;
  return `${style.strong(name)} (${shortCommit(commit)})`;
}

function goesOnServing({ current }: { current: boolean }, environment: string, style: Style): string[] {
  return current
    ? []
    : [style.notice(`${environment} goes on serving what it serves: this release does not come after it.`)];
}
