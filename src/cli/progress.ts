import { formatBytes, formatCount, formatSeconds } from '../core/amounts';

/** How much has been sent, and how much is on its way. Times are in milliseconds. */
export class Progress {
  /** Blobs on their way. */
  running = 0;
  sentBytes = 0;
  /** Bytes of all blobs that were begun. */
  begunBytes = 0;
  private began = Infinity;

  begin(size: number, now: number): void {
    this.running += 1;
    this.began = Math.min(this.began, now);
    this.begunBytes += size;
  }

  sent(bytes: number): void {
    this.sentBytes += bytes;
  }

  end(): void {
    this.running -= 1;
  }

  /** Bytes in a second, since the first blob was begun. */
  rate(now: number): number {
    return this.sentBytes / Math.max(0.001, (now - this.began) / 1000);
  }
}

/** Progress in one line: bytes, rate, and the time that is left for what was begun. `now` is in milliseconds. */
export function progressLine(progress: Progress, now: number): string {
  const rate = progress.rate(now);
  const left = Math.max(0, progress.begunBytes - progress.sentBytes);
  const time = left === 0 ? ', waiting for the registry' : rate > 0 ? `, about ${formatSeconds(left / rate)} left` : '';
  const bytes = `${formatBytes(progress.sentBytes)} of ${formatBytes(progress.begunBytes)}`;
  return `${bytes} sent, ${formatBytes(Math.round(rate))}/s${time}, ${formatCount(progress.running, 'blob')} on the way`;
}
