import type { ClockTime, FreezeWindow } from '../../ledger/rules';

const weekdays = ['sun', 'mon', 'tue', 'wed', 'thu', 'fri', 'sat'] as const;

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
    return describeClockTime(from) < describeClockTime(to);
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
