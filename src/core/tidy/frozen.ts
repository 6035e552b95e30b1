import { formatFuture, formatMoment } from '../amounts';
import type { AdmissionRules } from '../ledger/rules';
import { frozenNow } from '../release/gates/admission';
import type { Gate } from '../release/gates/gate';
import type { Timestamp } from '../time';

/** Nothing is removed from an environment that is frozen. */
export function notFrozenForTidying(environment: string, rules: Pick<AdmissionRules, 'freeze'>, now: Timestamp): Gate {
  const gate = 'freeze';
  const frozen = frozenNow(rules, now);
  return frozen === undefined
    ? { gate, outcome: 'met', detail: `${environment} is not frozen now` }
    : {
        ...{ gate, outcome: 'unmet', code: 'frozen' },
        what: 'the environment is frozen',
        object: environment,
        detail: `${environment} is frozen (${frozen.text}); opens ${formatFuture(frozen.until, new Date(now))}`,
        remedy: `run the command again after ${formatMoment(frozen.until)}`,
      };
}
