import type { ConfigCheckResult } from '../../operations/results';
import { formatCount } from './format';
import type { Style } from './style';

/** What `config check` answers to people. */
export function configView({ file, product, images, environments }: ConfigCheckResult, style: Style): string {
  return `${style.good('All is well')} in ${file}: ${style.strong(product)} has ${formatCount(images.length, 'image')} (${images.join(', ')}), released to ${environments.join(' → ')}.`;
}
