import { formatBytes, formatCount, formatSeconds } from '../../core/amounts';
import type { TransferResult } from '../../results/common';
import type { Screen } from '../answer';

/** What a transfer took, in one line. */
export function transferLine(
  { blobsSent, blobsMounted, blobsPresent, bytesSent, requests }: TransferResult,
  { dryRun }: { readonly dryRun: boolean },
): string {
  const [send, mount] = dryRun ? ['to send', 'to mount'] : ['sent', 'mounted'];
  const sent =
    blobsSent === 0 ? `nothing ${send}` : `${formatCount(blobsSent, 'blob')} ${send} (${formatBytes(bytesSent)})`;
  const mounted = blobsMounted === 0 ? [] : [`${blobsMounted} ${mount}`];
  return [
    sent,
    ...mounted,
    `${formatCount(blobsPresent, 'blob')} already there`,
    formatCount(requests, 'request'),
  ].join(', ');
}

/** What all transfers took, in one line. */
export function totalLine(
  { components, dryRun }: { readonly components: readonly { transfer: TransferResult }[]; readonly dryRun: boolean },
  { style, elapsed }: Screen,
): string {
  const sum = (of: keyof TransferResult): number => components.reduce((total, { transfer }) => total + transfer[of], 0);
  const total = transferLine(
    {
      blobsSent: sum('blobsSent'),
      blobsMounted: sum('blobsMounted'),
      blobsPresent: sum('blobsPresent'),
      bytesSent: sum('bytesSent'),
      requests: sum('requests'),
    },
    { dryRun },
  );
  return `${style.strong('Total:')} ${total}, ${formatSeconds(elapsed / 1000)}`;
}
