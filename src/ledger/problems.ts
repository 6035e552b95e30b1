import { HodError, messageOf, type ErrorCode } from '../core/errors';

/** What one way in which a database fails means for the user. */
export interface LedgerCause {
  /** Matches what the database says, its code first. */
  readonly pattern: RegExp;
  readonly code: Extract<ErrorCode, `ledger-${string}`>;
  readonly why: string;
  readonly next: string;
}

/** The error for a ledger that cannot be used. `says`: what the database says, its code first. */
export function ledgerProblem(
  error: unknown,
  {
    label,
    says,
    causes,
    tried,
  }: { label: string; says: string; causes: readonly LedgerCause[]; tried?: string | undefined },
): HodError {
  const cause = causes.find(({ pattern }) => pattern.test(says));
  return new HodError(
    cause?.code ?? 'ledger-unavailable',
    {
      what: 'the ledger cannot be used',
      object: label,
      why: [cause?.why ?? messageOf(error), tried].filter((each) => each !== undefined).join('; '),
      next: cause?.next ?? 'correct this and run the command again',
    },
    { cause: error },
  );
}

/** The error for a ledger in which something else always changes first. */
export function contended(object: string, why: string): HodError {
  return new HodError('ledger-contended', {
    what: 'the ledger is too busy',
    object,
    why,
    next: 'run the command again when fewer jobs write to it; nothing is lost',
  });
}

/** How intact entries get into a new ledger. */
export const copyingAdvice =
  '`hod ledger export FILE` writes them, and `hod ledger import FILE` reads them into a new ledger';

/** The error for a fact that does not follow from the entries. */
export function factsCorrupt(object: string, why: string): HodError {
  return new HodError('ledger-facts-corrupt', {
    what: 'the facts of the ledger do not follow from its entries',
    object,
    why,
    next: `\`hod ledger verify\` looks at the rest; where its entries are intact, ${copyingAdvice}`,
  });
}
