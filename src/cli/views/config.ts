import type { ConfigCheckResult } from '../../results/config';
import type { Look } from '../answer';
import { formatCount } from './format';

/** What `config check` answers to people. */
export function configView(
  { file, product, images, bundles, environments }: ConfigCheckResult,
  { style }: Look,
): string {
  const all = [named(images, 'image'), ...(bundles.length === 0 ? [] : [named(bundles, 'bundle')])].join(' and ');
  const way = environments.join(' → ');
  return `${style.good('Valid:')} ${file} releases ${all} of ${style.strong(product)}, through ${way}.`;
}

function named(names: readonly string[], noun: string): string {
  return `${formatCount(names.length, noun)} (${names.join(', ')})`;
}
