import { formatCount } from '../../core/amounts';
import type { CarryResult } from '../../results/carry';
import type { Screen } from '../answer';
import { tagLines } from './components';
import { totalLine } from './transfer';

/** What `carry` answers to people. */
export function carryView(result: CarryResult, screen: Screen): string {
  const { images, repository, requests, dryRun } = result;
  const { style } = screen;
  // Requests are counted for the repository as a whole.
  const components = images.map(({ transfer }, at) => ({
    transfer: { ...transfer, requests: at === 0 ? requests : 0 },
  }));
  const artifacts = images.filter(({ artifactType }) => artifactType !== null).length;
  const what = [
    ...(artifacts === images.length ? [] : [formatCount(images.length - artifacts, 'image')]),
    ...(artifacts === 0 ? [] : [formatCount(artifacts, 'artifact')]),
  ].join(' and ');
  return [
    `${dryRun ? 'Would carry' : 'Carried'} ${what} into ${style.strong(repository)}`,
    ...images.map((image) => imageBlock(image, result, screen)),
    totalLine({ components, dryRun }, screen),
  ].join('\n\n');
}

function imageBlock(
  { from, digest, artifactType, platforms, tags, referrers }: CarryResult['images'][number],
  { dryRun }: CarryResult,
  { style }: Screen,
): string {
  const { brought, present, left } = referrers;
  const counts = [
    ...(brought === 0 ? [] : [`${brought} ${dryRun ? 'to be carried' : 'carried'}`]),
    ...(present === 0 ? [] : [`${present} already there`]),
  ];
  return [
    `${style.strong(from)}  ${artifactType ?? platforms.join('  ')}`,
    `  ${digest}`,
    ...(tags.length === 0 ? [`  ${style.notice('no tag leads to it')}`] : tagLines(tags, style)),
    ...(counts.length === 0 ? [] : [`  referrers: ${counts.join(', ')}`]),
    ...left.map((tag) => `  ${style.notice(`${tag} leads to something else there, and was left alone`)}`),
  ].join('\n');
}
