import { HodError } from '../core/errors';

/**
 * The form in which ledgers are kept. What is kept in another one is refused: it was never released. A change after that
 * needs a way from the form before.
 */
export const ledgerForm = 20;

/** The tables of a ledger in a database. */
export function tablesOf(prefix: string): string {
  return `
    CREATE TABLE ${prefix}entries (
      product TEXT NOT NULL, seq INTEGER NOT NULL, hash TEXT NOT NULL, text TEXT NOT NULL,
      PRIMARY KEY (product, seq)
    );
    CREATE TABLE ${prefix}facts (
      product TEXT NOT NULL, kind TEXT NOT NULL, key TEXT NOT NULL, text TEXT NOT NULL,
      seq INTEGER NOT NULL, seal TEXT NOT NULL,
      PRIMARY KEY (product, kind, key)
    );`;
}

/**
 * Whether a ledger is there, by the number of its form; 0 where none is.
 *
 * @throws {@link HodError} `ledger-other-form`, naming `label`, for a form that this Hod does not know.
 */
export function isMade(form: number, label: string): boolean {
  if (form !== 0 && form !== ledgerForm) {
    throw new HodError('ledger-other-form', {
      what: 'this ledger has a form that this Hod does not know',
      object: label,
      why: `it has form ${form}, and this Hod knows form ${ledgerForm}`,
      next: 'use the Hod that wrote it, or export the ledger with that and import it here',
    });
  }
  return form !== 0;
}
