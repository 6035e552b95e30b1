import * as z from 'zod';

declare const timeBrand: unique symbol;

/** A moment: RFC 3339, UTC (`2026-01-05T09:30:00.000Z`). */
export type Timestamp = string & { readonly [timeBrand]: true };

const grammar = /^\d{4}-\d{2}-\d{2}T\d{2}:\d{2}:\d{2}(?:\.\d+)?Z$/;

/** Whether a text is a moment in this form. */
export function isTimestamp(text: string): text is Timestamp {
  return grammar.test(text) && !Number.isNaN(Date.parse(text));
}

/** A moment at an edge. */
export const timestampSchema = z.custom<Timestamp>(
  (value) => typeof value === 'string' && isTimestamp(value),
  'must be a time (RFC 3339, UTC)',
);

/** A moment in its written form. Throws RangeError for an invalid date. */
export function timestampOf(date: Date): Timestamp {
  const text = date.toISOString();
  if (!isTimestamp(text)) {
    throw new RangeError(`${text} is out of range`);
  }
  return text;
}

/** The day of a moment, `YYYYMMDD`. */
export function dayOf(time: Timestamp): string {
  return time.slice(0, 10).replaceAll('-', '');
}

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
