import type { ConfigCheckResult } from '../../operations/results';
import { formatCount } from './format';
import type { Style } from './style';

/** What `config check` answers to people. */
export function configView({ file, product, images, bundles, environments }: ConfigCheckResult, style: Style): string {
  const parts = [named(images, 'image'), ...(bundles.length === 0 ? [] : [named(bundles, 'bundle')])].join(' and ');
  const way = environments.join(' → ');
  return `${style.good('All is well')} in ${file}: ${style.strong(product)} has ${parts}, released to ${way}.`;
}

function named(names: readonly string[], noun: string): string {
  return `${formatCount(names.length, noun)} (${names.join(', ')})`;
}
