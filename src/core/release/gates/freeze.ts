import { timestampOf, type Timestamp } from '../../time';

/** A moment on the clock of a time zone: of every week, or of one day. */
export type ClockTime =
  | { readonly weekday: number; readonly hour: number; readonly minute: number }
  | {
      readonly year: number;
      readonly month: number;
      readonly day: number;
      readonly hour: number;
      readonly minute: number;
    };

/** A time in which nothing may enter an environment. Both edges are of every week, or both of one day. */
export interface FreezeWindow {
  readonly from: ClockTime;
  readonly to: ClockTime;
  /** IANA time zone. */
  readonly zone: string;
}

const weekdays = ['sun', 'mon', 'tue', 'wed', 'thu', 'fri', 'sat'] as const;
const minute = 60_000;
const day = 24 * 60 * minute;

/** Reads `fri 16:00` or `2026-12-20 16:00`; undefined where it is neither. */
export function parseClockTime(text: string): ClockTime | undefined {
  const [, date, name, hours, minutes] =
    /^(?:(\d{4}-\d{2}-\d{2})|(sun|mon|tue|wed|thu|fri|sat)) (\d{2}):(\d{2})$/.exec(text) ?? [];
  const hour = Number(hours);
  const past = Number(minutes);
  if (hours === undefined || hour > 23 || past > 59) {
    return undefined;
  }
  if (date === undefined) {
    return { weekday: weekdays.findIndex((each) => each === name), hour, minute: past };
  }
  const [year = 0, month = 0, of = 0] = date.split('-').map(Number);
  const there = new Date(Date.UTC(year, month - 1, of));
  return there.getUTCMonth() === month - 1 && there.getUTCDate() === of
    ? { year, month, day: of, hour, minute: past }
    : undefined;
}

/** Whether a window can be from one moment to another. */
export function isWindow(from: ClockTime, to: ClockTime): boolean {
  if ('year' in from && 'year' in to) {
    return wallOf(from) < wallOf(to);
  }
  return 'weekday' in from && 'weekday' in to;
}

/** A window as hod.yaml has it: `fri 16:00 to mon 08:00 Europe/Dublin`. */
export function describeWindow({ from, to, zone }: FreezeWindow): string {
  return `${describeClockTime(from)} to ${describeClockTime(to)} ${zone}`;
}

function describeClockTime(time: ClockTime): string {
  const two = (value: number): string => String(value).padStart(2, '0');
  const day = 'year' in time ? `${time.year}-${two(time.month)}-${two(time.day)}` : (weekdays[time.weekday] ?? '');
  return `${day} ${two(time.hour)}:${two(time.minute)}`;
}

/** Whether a time zone is known here. */
export function isTimeZone(zone: string): boolean {
  try {
    return new Intl.DateTimeFormat('en', { timeZone: zone }).resolvedOptions().timeZone !== '';
  } catch {
    return false;
  }
}

/** When the freeze ends that a moment is in; undefined where it is in none. */
export function frozenUntil({ from, to, zone }: FreezeWindow, now: Timestamp): Timestamp | undefined {
  const at = Date.parse(now);
  for (const [begin, end] of occurrences(from, to, zone, at)) {
    // Where clocks go back a time comes twice: a freeze begins with the first, and ends with the second.
    const until = instants(end, zone).last;
    if (instants(begin, zone).first <= at && at < until) {
      return timestampOf(new Date(until));
    }
  }
  return undefined;
}

/** The windows around a moment, as what the clock on the wall shows: milliseconds as if it were UTC. */
function occurrences(from: ClockTime, to: ClockTime, zone: string, at: number): [number, number][] {
  if ('year' in from || 'year' in to) {
    return 'year' in from && 'year' in to ? [[wallOf(from), wallOf(to)]] : [];
  }
  const midnight = Math.floor((at + offsetAt(at, zone)) / day) * day;
  return Array.from({ length: 10 }, (_, back) => midnight + day - back * day)
    .filter((date) => new Date(date).getUTCDay() === from.weekday)
    .map((date) => {
      const begin = date + (from.hour * 60 + from.minute) * minute;
      const days = (to.weekday - from.weekday + 7) % 7;
      const end = date + days * day + (to.hour * 60 + to.minute) * minute;
      return [begin, end > begin ? end : end + 7 * day];
    });
}

function wallOf(time: Extract<ClockTime, { year: number }>): number {
  return Date.UTC(time.year, time.month - 1, time.day, time.hour, time.minute);
}

/** When the clock of a zone shows a time: once; twice where it goes back; or as it jumps over it. */
function instants(wall: number, zone: string): { first: number; last: number } {
  const [early, late] = [wall - offsetAt(wall - day, zone), wall - offsetAt(wall + day, zone)].sort((a, b) => a - b);
  const [first = wall, last = wall] = [early, late];
  const shows = (instant: number): boolean => instant + offsetAt(instant, zone) === wall;
  if (shows(first) || shows(last)) {
    return { first: shows(first) ? first : last, last: shows(last) ? last : first };
  }
  // The first instant at which the clock shows a later time.
  let [before, after] = [first, last];
  while (after - before > 1) {
    const middle = Math.floor((before + after) / 2);
    [before, after] = middle + offsetAt(middle, zone) > wall ? [before, middle] : [middle, after];
  }
  return { first: after, last: after };
}

/** How far the clock of a zone is ahead of UTC at an instant, in milliseconds. */
function offsetAt(instant: number, zone: string): number {
  const format = new Intl.DateTimeFormat('en-GB', {
    timeZone: zone,
    hourCycle: 'h23',
    year: 'numeric',
    month: 'numeric',
    day: 'numeric',
    hour: 'numeric',
    minute: 'numeric',
    second: 'numeric',
  });
  const parts = new Map(format.formatToParts(instant).map(({ type, value }) => [type, Number(value)]));
  const part = (name: Intl.DateTimeFormatPartTypes): number => parts.get(name) ?? 0;
  const wall = Date.UTC(part('year'), part('month') - 1, part('day'), part('hour'), part('minute'), part('second'));
  return wall - Math.floor(instant / 1000) * 1000;
}
