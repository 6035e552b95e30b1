import type { Release } from '../../ledger/facts';
import { describePosition } from '../../tags/ordering';
import type { Gate, UnmetGate } from './gate';

/** A release that a rule refuses, and where it was to come in. */
export interface RefusedRelease {
  readonly release: Pick<Release, 'version' | 'commit'>;
  readonly to: string;
}

/** Returns the answer of a rule that a release does not meet. */
export function unmetGate(
  gate: string,
  { release, to }: RefusedRelease,
  more: Pick<UnmetGate, 'code' | 'what' | 'detail' | 'remedy'>,
): Gate {
  return { gate, outcome: 'unmet', object: `${describePosition(release)} to ${to}`, ...more };
}
