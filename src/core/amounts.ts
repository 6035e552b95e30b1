/** Bytes as people read them: `512 B`, `48.2 kB`, `1.07 GB`. */
export function formatBytes(bytes: number): string {
  const units = ['B', 'kB', 'MB', 'GB', 'TB'];
  let value = bytes;
  let unit = 0;
  while (value >= 1000 && unit < units.length - 1) {
    value /= 1000;
    unit += 1;
  }
  return `${unit === 0 ? value : value.toPrecision(3)} ${units[unit] ?? ''}`;
}

/** How long ago something was: `just now`, `5 min`, `3 h`, `2 d`. */
export function formatAge(since: string, now: Date): string {
  const minutes = Math.floor((now.getTime() - Date.parse(since)) / 60_000);
  if (minutes < 1) {
    return 'just now';
  }
  if (minutes < 60) {
    return `${minutes} min`;
  }
  return minutes < 48 * 60 ? `${Math.floor(minutes / 60)} h` : `${Math.floor(minutes / (24 * 60))} d`;
}

/** A moment for people: `2026-11-27 00:24 UTC`. */
export function formatMoment(time: string): string {
  return `${time.slice(0, 10)} ${time.slice(11, 16)} UTC`;
}

/** A past moment for people: `2026-11-27 00:24 UTC (5 min ago)`. */
export function formatPast(time: string, now: Date): string {
  const age = formatAge(time, now);
  return `${formatMoment(time)} (${age === 'just now' ? age : `${age} ago`})`;
}

/** A moment to come for people: `in 3 h 10 min (2026-11-28 00:23 UTC)`. */
export function formatFuture(time: string, now: Date): string {
  return `in ${formatSpan(Date.parse(time) - now.getTime())} (${formatMoment(time)})`;
}

/** `0.4 s`, `12 s`, `2 min 5 s`. */
export function formatSeconds(seconds: number): string {
  if (seconds < 10) {
    return `${seconds.toFixed(1)} s`;
  }
  const whole = Math.ceil(seconds);
  return whole < 60 ? `${whole} s` : `${Math.floor(whole / 60)} min ${whole % 60} s`;
}

/** How long something took, roughly: `40 s`, `12 min`, `3 h 20 min`, `2 d 4 h`. */
export function formatSpan(milliseconds: number): string {
  const minutes = Math.floor(milliseconds / 60_000);
  if (minutes < 2) {
    return `${Math.round(milliseconds / 1000)} s`;
  }
  if (minutes < 60) {
    return `${minutes} min`;
  }
  const hours = Math.floor(minutes / 60);
  return hours < 48
    ? [`${hours} h`, ...(minutes % 60 === 0 ? [] : [`${minutes % 60} min`])].join(' ')
    : [`${Math.floor(hours / 24)} d`, ...(hours % 24 === 0 ? [] : [`${hours % 24} h`])].join(' ');
}

/** `1 blob`, `2 blobs`. */
export function formatCount(count: number, noun: string, plural = `${noun}s`): string {
  return `${count} ${count === 1 ? noun : plural}`;
}

const unitSizes: ReadonlyMap<string, number> = new Map([
  ['s', 1000],
  ['m', 60_000],
  ['h', 3_600_000],
  ['d', 86_400_000],
  ['w', 7 * 86_400_000],
  ['y', 365 * 86_400_000],
]);

/** A time such as `90s`, `30m`, `24h` or `7d`, as milliseconds; NaN where it is none. */
export function millisecondsOf(text: string): number {
  return Number(text.slice(0, -1)) * (unitSizes.get(text.slice(-1)) ?? NaN);
}

/** A time as people say it, in the largest unit that is whole: `1 d`, `90 min`, `30 s`. */
export function describeDuration(milliseconds: number): string {
  const units = [
    [86_400_000, 'd'],
    [3_600_000, 'h'],
    [60_000, 'min'],
  ] as const;
  const [size, unit] = units.find(([each]) => milliseconds % each === 0) ?? [1000, 's'];
  return `${milliseconds / size} ${unit}`;
}
