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
