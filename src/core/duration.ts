const unitSizes: ReadonlyMap<string, number> = new Map([
  ['s', 1000],
  ['m', 60_000],
  ['h', 3_600_000],
  ['d', 86_400_000],
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
