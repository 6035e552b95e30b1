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

/**
 * Reads a time that somebody else wrote (RFC 3339, or ISO 8601 without a zone), in UTC; undefined where it is none. Without a zone it
 * is taken as UTC: machines that build run in it.
 */
export function readTime(text: string): Timestamp | undefined {
  const found = /^\d{4}-\d\d-\d\dT\d\d:\d\d(?::\d\d(?:\.\d+)?)?(Z|[+-]\d\d:?\d\d)?$/.exec(text);
  if (found === null) {
    return undefined;
  }
  const date = new Date(found[1] === undefined ? `${text}Z` : text);
  const written = Number.isNaN(date.getTime()) ? '' : date.toISOString();
  return isTimestamp(written) ? written : undefined;
}

/** A clock may be wrong by so much before a time in the future is one, in milliseconds. */
const clockTolerance = 10 * 60_000;

/** Whether a time that somebody else wrote lies in the future, and not only by a clock that is a little wrong. */
export function isInFuture(time: Timestamp, now: Timestamp): boolean {
  return Date.parse(time) > Date.parse(now) + clockTolerance;
}

const week = 7 * 86_400_000;
/** A Monday, in milliseconds: 1970-01-05. */
const aMonday = 4 * 86_400_000;

/** The Monday of the week of a moment (UTC), `YYYY-MM-DD`. */
export function weekOf(time: Timestamp): string {
  const monday = Math.floor((Date.parse(time) - aMonday) / week) * week + aMonday;
  return new Date(monday).toISOString().slice(0, 10);
}

/** The day of a moment, `YYYYMMDD`. */
export function dayOf(time: Timestamp): string {
  return time.slice(0, 10).replaceAll('-', '');
}
