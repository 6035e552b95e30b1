import type { ErrorCode } from '../../errors';
import type { Text } from '../../text';

/** Whether a rule was met. */
export const gateOutcomes = ['met', 'unmet'] as const;

/** What a rule says of a release: met, and how; or unmet, and what would meet it. A rule never throws. */
export type Gate = MetGate | UnmetGate;

/** A rule that was met. */
export interface MetGate {
  /** The name of the rule. */
  readonly gate: string;
  readonly outcome: 'met';
  /** How it was met, for people. */
  readonly detail: string;
}

/** A rule that says no. */
export interface UnmetGate {
  readonly gate: string;
  readonly outcome: 'unmet';
  readonly code: ErrorCode;
  /** What the refusal says happened, and to which objects. */
  readonly what: string;
  readonly object: Text;
  /** Why it is not met. */
  readonly detail: Text;
  /** What would meet it. */
  readonly remedy: string;
}

/** The rules among some that say no. */
export function unmetAmong(gates: readonly Gate[]): UnmetGate[] {
  return gates.filter((gate) => gate.outcome === 'unmet');
}

/** The rules among some that were met, as the ledger keeps them. */
export function metAmong(gates: readonly Gate[]): Pick<MetGate, 'gate' | 'detail'>[] {
  return gates.filter((gate) => gate.outcome === 'met').map(({ gate, detail }) => ({ gate, detail }));
}
