import type { TouchedResult } from '../../results/touched';

/** What `touched` answers: the names alone, a line each, so that a shell can read them. */
export function touchedView(result: TouchedResult): string {
  return result.components
    .filter(({ touched }) => touched)
    .map(({ component }) => component)
    .join('\n');
}
