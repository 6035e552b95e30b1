import { readTime, type Timestamp } from '../time';

/** What builders write that keep the date out of images lies before, and says nothing of their age. */
const firstDate = Date.parse('1990-01-01T00:00:00Z');

/** Whether all that content says of when it was made lies before a time. What says no date, or none that can be right, is not older. */
export function isOlder(dates: readonly (string | undefined)[], before: Timestamp): boolean {
  const times = dates.map((date) => Date.parse(readTime(date ?? '') ?? ''));
  return times.length > 0 && times.every((time) => time >= firstDate && time < Date.parse(before));
}
