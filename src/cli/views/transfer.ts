import { formatBytes, formatCount, formatSeconds } from '../../core/amounts';
import type { TransferResult } from '../../results/common';
import type { Screen } from '../answer';

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
export function totalLine(components: readonly { transfer: TransferResult }[], { style, elapsed }: Screen): string {
  const sum = (of: keyof TransferResult): number => components.reduce((total, { transfer }) => total + transfer[of], 0);
  const total = transferLine({
    blobsSent: sum('blobsSent'),
    blobsMounted: sum('blobsMounted'),
    blobsPresent: sum('blobsPresent'),
    bytesSent: sum('bytesSent'),
    requests: sum('requests'),
  });
  return `${style.strong('Total:')} ${total}, ${formatSeconds(elapsed / 1000)}`;
}
