import { HodError } from '../errors';

/** Rules that are set aside on purpose. */
export interface Despite {
  /** What was withdrawn comes back. */
  readonly again: boolean;
  /** The branch was rewritten: its build comes after what the branch was. */
  readonly afterRewrite: boolean;
  /** It comes in while nothing should. */
  readonly freeze: boolean;
  /** It comes in from another environment, into another repository, or by other rules than releases did so far. */
  readonly newWayIn: boolean;
  /** It comes from a parcel that nobody has signed. */
  readonly parcel: boolean;
  /** Why; there is one wherever something is set aside. */
  readonly reason: string;
}

/** Sets nothing aside. */
export const inSpiteOfNothing: Despite = {
  again: false,
  afterRewrite: false,
  freeze: false,
  newWayIn: false,
  parcel: false,
  reason: '',
};

/** What the user says about rules that are to be set aside. */
export interface DespiteOptions {
  again?: true | undefined;
  afterRewrite?: true | undefined;
  despiteFreeze?: true | undefined;
  newWayIn?: true | undefined;
  trustParcel?: true | undefined;
  reason?: string | undefined;
}

/** What is set aside on purpose. Throws `reason-missing` where nobody says why. */
export function despiteOf({
  again,
  afterRewrite,
  despiteFreeze,
  newWayIn,
  trustParcel,
  reason,
}: DespiteOptions): Despite {
  const options = [
    ...(again === true ? ['--again'] : []),
    ...(afterRewrite === true ? ['--after-rewrite'] : []),
    ...(despiteFreeze === true ? ['--despite-freeze'] : []),
    ...(newWayIn === true ? ['--new-way-in'] : []),
    ...(trustParcel === true ? ['--trust-parcel'] : []),
  ];
  if (options.length > 0) {
    return {
      again: again === true,
      afterRewrite: afterRewrite === true,
      freeze: despiteFreeze === true,
      newWayIn: newWayIn === true,
      parcel: trustParcel === true,
      reason: needReason(reason, options.join(' ')),
    };
  }
  if (reason !== undefined) {
    throw new HodError('options-conflict', {
      what: '--reason is about nothing',
      object: `--reason ${reason}`,
      why: 'it says why a rule is set aside, and none is',
      next: 'leave it out, or add what it is about',
    });
  }
  return inSpiteOfNothing;
}

/** A reason that somebody gave. Throws `reason-missing` where there is none. */
export function needReason(reason: string | undefined, about: string): string {
  const given = reason?.trim() ?? '';
  if (given === '') {
    throw new HodError('reason-missing', {
      what: 'a reason is missing',
      object: about,
      why: 'the ledger keeps why this was done',
      next: 'add --reason "…"',
    });
  }
  return given;
}

/** The rules that were set aside, as the ledger keeps them. */
export function rulesAside({
  again,
  afterRewrite,
  freeze,
  newWayIn,
  parcel,
  reason,
}: Despite): { rule: string; reason: string }[] {
  return [
    ...(again ? [{ rule: 'withdrawn', reason }] : []),
    ...(afterRewrite ? [{ rule: 'branch-order', reason }] : []),
    ...(freeze ? [{ rule: 'freeze', reason }] : []),
    ...(newWayIn ? [{ rule: 'way-in', reason }] : []),
    ...(parcel ? [{ rule: 'parcel', reason }] : []),
  ];
}
