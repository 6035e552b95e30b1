import { Temporal } from 'temporal-polyfill';
import { timestampOf, type Timestamp } from '../../time';
import type { ClockTime, FreezeWindow } from '../../ledger/rules';

/** Returns when the freeze ends that a moment is in; undefined where it is in none. */
export function frozenUntil({ from, to, zone }: FreezeWindow, now: Timestamp): Timestamp | undefined {
  const at = Temporal.Instant.from(now);
  for (const [begin, end] of occurrences(from, to, at.toZonedDateTimeISO(zone).toPlainDate())) {
    // Where clocks go back a time comes twice: a freeze begins with the first, and ends with the second.
    const until = instantOf(end, zone, 'later');
    const isBegun = Temporal.Instant.compare(instantOf(begin, zone, 'earlier'), at) <= 0;
    if (isBegun && Temporal.Instant.compare(at, until) < 0) {
      return timestampOf(new Date(until.epochMilliseconds));
    }
  }
  return undefined;
}

/** The windows around a day, as the clock of the zone shows them. */
function occurrences(
  from: ClockTime,
  to: ClockTime,
  today: Temporal.PlainDate,
): [Temporal.PlainDateTime, Temporal.PlainDateTime][] {
  if ('year' in from || 'year' in to) {
    return 'year' in from && 'year' in to ? [[Temporal.PlainDateTime.from(from), Temporal.PlainDateTime.from(to)]] : [];
  }
  return Array.from({ length: 10 }, (_, back) => today.add({ days: 1 - back }))
    .filter(({ dayOfWeek }) => dayOfWeek % 7 === from.weekday)
    .map((date) => {
      const begin = date.toPlainDateTime(from);
      const end = date.add({ days: (to.weekday - from.weekday + 7) % 7 }).toPlainDateTime(to);
      return [begin, Temporal.PlainDateTime.compare(end, begin) > 0 ? end : end.add({ days: 7 })];
    });
}

/** When the clock of a zone shows a time; a time that the clock jumps over is the moment of the jump. */
function instantOf(time: Temporal.PlainDateTime, zone: string, disambiguation: 'earlier' | 'later'): Temporal.Instant {
  const shown = time.toZonedDateTime(zone, { disambiguation });
  const jump = shown.toPlainDateTime().equals(time)
    ? null
    : time.toZonedDateTime(zone, { disambiguation: 'later' }).getTimeZoneTransition('previous');
  return (jump ?? shown).toInstant();
}
