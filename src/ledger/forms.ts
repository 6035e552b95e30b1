import { HodError } from '../core/errors';

/** What stands where a ledger is kept: tables of the newest form, of one to be read as it is, or none at all. */
export type FormState = 'newest' | 'older' | 'empty';

/** What a form means, 0 where there is none. Throws `ledger-newer`, naming `label`, for one that is not known yet. */
export function stateOfForm(form: number, label: string): FormState {
  if (form > ledgerForms.length) {
    throw newerForm(label, form);
  }
  return form === 0 ? 'empty' : form === ledgerForms.length ? 'newest' : 'older';
}

/** The error for a ledger whose form this Hod does not know yet. */
function newerForm(object: string, form: number): HodError {
  return new HodError('ledger-newer', {
    what: 'this ledger was written by a newer Hod',
    object,
    why: `it has the form ${form}, and this Hod knows up to ${ledgerForms.length}`,
    next: 'install the newer Hod',
  });
}

/**
 * The form in which ledgers are kept, and how each form is made from the one before. The facts
 * follow from the entries: when a form changes, they are folded anew.
 */
export const ledgerForms: readonly ((prefix: string) => string)[] = [
  (prefix) => `
    CREATE TABLE ${prefix}entries (
      product TEXT NOT NULL, seq INTEGER NOT NULL, hash TEXT NOT NULL, text TEXT NOT NULL,
      PRIMARY KEY (product, seq)
    );
    CREATE TABLE ${prefix}facts (
      product TEXT NOT NULL, kind TEXT NOT NULL, key TEXT NOT NULL, text TEXT NOT NULL,
      PRIMARY KEY (product, kind, key)
    );`,
  // The content, version line and staged parts became facts.
  (prefix) => `DELETE FROM ${prefix}facts;`,
  // What stands under names from outside became lists.
  (prefix) => `DELETE FROM ${prefix}facts;`,
  // Each fact is sealed with the entry that set it.
  (prefix) => `
    DROP TABLE ${prefix}facts;
    CREATE TABLE ${prefix}facts (
      product TEXT NOT NULL, kind TEXT NOT NULL, key TEXT NOT NULL, text TEXT NOT NULL,
      seq INTEGER NOT NULL, seal TEXT NOT NULL,
      PRIMARY KEY (product, kind, key)
    );`,
  // What an environment serves has a way back; releases have their ways, and evidence.
  (prefix) => `DELETE FROM ${prefix}facts;`,
  // Releases say when and by which run they were published; what came along with them became facts.
  (prefix) => `DELETE FROM ${prefix}facts;`,
  // Moving tags say what they pointed to before.
  (prefix) => `DELETE FROM ${prefix}facts;`,
];
