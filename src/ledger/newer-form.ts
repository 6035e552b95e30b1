import { HodError } from '../core/errors';

/** The error for a ledger whose form this Hod does not know yet. */
export function newerForm(object: string, form: number, known: number): HodError {
  return new HodError('unavailable', {
    what: 'this ledger was written by a newer Hod',
    object,
    why: `it has the form ${form}, and this Hod knows up to ${known}`,
    next: 'install the newer Hod',
  });
}
