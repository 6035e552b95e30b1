import { formatCount } from '../../core/amounts';
import type { AnnounceResult } from '../../results/announce';
import type { Screen } from '../answer';

/** What each receiver was told. */
export function announceView({ product, receivers }: AnnounceResult, { style }: Screen): string {
  return receivers
    .map(({ receiver, delivered, failed }) => {
      const name = style.strong(receiver);
      const count = delivered === 0 ? 'nothing new' : `told of ${formatCount(delivered, 'event')}`;
      return failed === null
        ? `${name}: ${count}; it knows everything of ${product}`
        : `${name}: ${count}; ${style.bad('not told')} of the rest: ${failed}`;
    })
    .join('\n');
}
