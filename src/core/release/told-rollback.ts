import { stepKey, type Release, type Step } from '../ledger/facts';
import type { ComponentDigest } from '../ledger/release';
import type { RollbackRecord } from '../ledger/rollback-record';
import { factNeed, type Decision, type Knowledge } from './knowledge';

/** A rollback as registries are told of it, and the content that its record refers to. */
export interface ToldRollback {
  readonly record: RollbackRecord;
  readonly withdrawn: readonly ComponentDigest[];
}

/** Finds what registries are told of the last step of an environment: undefined where that was no rollback, or withdrew nothing. */
export function lastRollback(
  product: string,
  environment: string,
  known: Knowledge,
): Decision<ToldRollback | undefined> {
  const first = known.missing([factNeed('environment', environment)]);
  if (first !== undefined) {
    return first;
  }
  const { facts } = known;
  const last = stepKey(environment, facts.get('environment', environment)?.steps ?? 0);
  const second = known.missing([factNeed('step', last)]);
  if (second !== undefined) {
    return second;
  }
  const step = facts.get('step', last);
  if (step === undefined || step.withdrew.length === 0) {
    return { kind: 'decided', value: undefined };
  }
  const { at, left, withdrew } = step;
  const back = step.back === undefined ? last : stepKey(environment, step.back);
  const third = known.missing([factNeed('step', back), ...withdrew.map((release) => factNeed('release', release))]);
  if (third !== undefined) {
    return third;
  }
  const to = left === undefined ? facts.get('step', back)?.of?.release : headAfter(step);
  return {
    kind: 'decided',
    value: {
      record: { product, environment, at, lane: left?.lane, withdrawn: [...withdrew].sort(), to },
      withdrawn: withdrew.flatMap((id) => facts.get('release', id)?.components ?? []),
    },
  };
}

/** The release that is the newest of a lane again. */
function headAfter({ left, lanes }: Step): Release['release'] | undefined {
  return lanes.find(({ lane, is }) => lane === left?.lane && is !== null)?.is?.release;
}
