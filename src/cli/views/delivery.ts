import type { PromoteResult, PublishResult, TagResult, TransferResult } from '../../operations/results';
import { columns, formatBytes, formatCount, formatSeconds, shortCommit } from './format';
import type { Style } from './style';

type DeliveredImage = PublishResult['images'][number];

/** What `publish` answers to people. */
export function publishView(result: PublishResult, style: Style, elapsed: number): string {
  const branch = result.branch === null ? '' : ` on ${result.branch}`;
  const name = `${releaseName(result, style)}${branch}`;
  const environment = style.strong(result.environment);
  const verb = result.dryRun ? 'Would publish' : 'Published';
  const title = changesNothing(result.images)
    ? `Nothing to do: ${environment} has ${name} already`
    : `${verb} ${name} to ${environment}`;
  const images = result.images.map((image) => imageView(image, style));
  return [
    [title, ...versionLine(result, style)].join('\n'),
    ...images,
    ...staysBehind(result, result.environment, style),
    ...leftoverLines(result.leftovers, style),
    totalLine(result.images, style, elapsed),
  ].join('\n\n');
}

/** What `promote` answers to people. */
export function promoteView(result: PromoteResult, style: Style, elapsed: number): string {
  const name = releaseName(result, style);
  const verb = result.dryRun ? 'Would promote' : 'Promoted';
  const title = changesNothing(result.images)
    ? `Nothing to do: ${style.strong(result.to)} has ${name} already`
    : `${verb} ${name} from ${result.from} to ${style.strong(result.to)}`;
  const gates = result.gates.map(
    ({ gate, outcome, detail }) => `  ${gate}  ${style.good(outcome)}  ${style.faint(detail)}`,
  );
  const images = result.images.map((image) => imageView(image, style));
  return [
    [title, ...gates].join('\n'),
    ...images,
    ...staysBehind(result, result.to, style),
    totalLine(result.images, style, elapsed),
  ].join('\n\n');
}

/** Why it has its version, where that does not go without saying. */
function versionLine({ version, versioning: { outcome, reason } }: PublishResult, style: Style): string[] {
  switch (outcome) {
    case 'none':
    case 'given':
      return [];
    case 'held':
      return [`  ${style.notice('no version')}  ${style.faint(reason)}`];
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

function changesNothing(images: readonly DeliveredImage[]): boolean {
  return images.every(({ tags }) => tags.every(({ outcome }) => outcome === 'unchanged' || outcome === 'held'));
}

function releaseName(
  { product, version, commit }: Pick<PublishResult, 'product' | 'version' | 'commit'>,
  style: Style,
): string {
  const name = version === null ? product : `${product} ${version}`;
  return `${style.strong(name)} (${shortCommit(commit)})`;
}

function imageView(image: DeliveredImage, style: Style): string {
  const omitted = image.omitted.map(({ rule, lacks }) => `  ${style.faint(`${rule} left out: there is no ${lacks}`)}`);
  return [
    ...imageHead(image, style),
    ...tagLines(image.tags, style),
    ...omitted,
    `  ${style.faint(transferLine(image.transfer))}`,
  ].join('\n');
}

/** What an image or bundle is, and where. */
export function imageHead(
  {
    image,
    kind,
    platforms,
    repository,
    digest,
  }: Pick<DeliveredImage, 'image' | 'kind' | 'platforms' | 'repository' | 'digest'>,
  style: Style,
): string[] {
  const runs = kind === 'bundle' ? style.faint('bundle of files') : platforms.join('  ');
  return [`${style.strong(image)}  ${runs}`, `  ${repository}@${digest}`];
}

/** A line for each tag: what became of it, and why. */
export function tagLines(tags: readonly TagResult[], style: Style): string[] {
  const paint = {
    created: style.good,
    moved: style.good,
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

/** What a transfer took, in one line. */
export function transferLine({ blobsSent, blobsMounted, blobsPresent, bytesSent, requests }: TransferResult): string {
  const sent = blobsSent === 0 ? 'nothing sent' : `${formatCount(blobsSent, 'blob')} sent (${formatBytes(bytesSent)})`;
  const mounted = blobsMounted === 0 ? [] : [`${blobsMounted} mounted`];
  return [
    sent,
    ...mounted,
    `${formatCount(blobsPresent, 'blob')} already there`,
    formatCount(requests, 'request'),
  ].join(', ');
}

/** What all transfers took, in one line. */
export function totalLine(images: readonly { transfer: TransferResult }[], style: Style, elapsed: number): string {
  const sum = (of: keyof TransferResult): number => images.reduce((total, { transfer }) => total + transfer[of], 0);
  const total = transferLine({
    blobsSent: sum('blobsSent'),
    blobsMounted: sum('blobsMounted'),
    blobsPresent: sum('blobsPresent'),
    bytesSent: sum('bytesSent'),
    requests: sum('requests'),
  });
  return `${style.strong('In all:')} ${total}, ${formatSeconds(elapsed / 1000)}`;
}

function staysBehind({ current }: { current: boolean }, environment: string, style: Style): string[] {
  return current
    ? []
    : [style.notice(`${environment} goes on running what it runs: this build does not come after it.`)];
}
