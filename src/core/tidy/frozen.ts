import type { AdmissionRules } from '../ledger/rules';
import { frozenNow } from '../release/gates/admission';
import type { Gate } from '../release/gates/gate';
import type { Timestamp } from '../time';

/** Nothing is removed from an environment that is frozen. */
export function notFrozenForTidying(environment: string, rules: Pick<AdmissionRules, 'freeze'>, now: Timestamp): Gate {
  const gate = 'freeze';
  const frozen = frozenNow(rules, now);
  return frozen === undefined
    ? { gate, outcome: 'met', detail: `nothing is frozen at ${now}` }
    : {
        ...{ gate, outcome: 'unmet', code: 'frozen' },
        what: 'nothing is removed during a freeze',
        object: environment,
        detail: `${environment} is frozen (${frozen.text}) until ${frozen.until}`,
        remedy: `run the command again after ${frozen.until}`,
      };
}
