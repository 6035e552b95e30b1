import type { CommitId } from '../../commit';
import type { Facts } from '../../ledger/facts';
import type { JudgedBy, NamedRules, ProductRules } from '../../ledger/rules';
import type { Ancestry } from '../../tags/ordering';
import type { Despite } from '../despite';
import { differencesInto } from './describe-rules';
import type { Gate } from './gate';
import { factNeed, type Need } from '../knowledge';

/** The rules that hod.yaml has in a checkout: what a release that it brings in is judged by. */
export interface CheckoutRules extends NamedRules {
  readonly rules: ProductRules;
}

/** How the commit of a checkout stands to the commit of the rules in force. */
type Age = 'newer' | 'older' | 'apart' | 'unknown' | 'unordered';

/** What is known where rules are compared. */
interface RulesKnown {
  readonly facts: Facts;
  readonly ancestry: Ancestry;
  readonly despite: Despite;
}

/** Returns the facts that rules are compared by. */
export function rulesFacts(here: CheckoutRules | undefined): Need[] {
  return here === undefined ? [] : [factNeed('rules', here.digest), factNeed('rules-in-force', '')];
}

/** Returns which commits must be compared to know which rules are newer. */
export function rulesOrder(here: CheckoutRules | undefined, facts: Facts): Need[] {
  const other = here && facts.get('rules-in-force', '')?.commit;
  return here?.commit === undefined || other === undefined ? [] : [{ kind: 'order', commit: here.commit, other }];
}

/** Returns the rules that a release was judged by, as its entry keeps them. */
export function judgedBy(
  here: CheckoutRules,
  known: RulesKnown,
  { isFollowed }: { readonly isFollowed: boolean },
): JudgedBy {
  const { digest, commit, rules } = here;
  return {
    digest,
    commit,
    ...(known.facts.get('rules', digest) === undefined ? { rules } : {}),
    ...(isFollowed && comeIntoForce(here, known) ? { inForce: true } : {}),
  };
}

/**
 * Whether a checkout may judge what comes into an environment: it has the rules in force for it, or newer ones. An older hod.yaml
 * does not bring a release past an environment or a gate that was added since. Undefined where the rules do not differ.
 */
export function judgedByNewest(
  environment: string,
  here: CheckoutRules,
  { facts, ancestry, despite }: RulesKnown,
): Gate | undefined {
  const gate = 'rules';
  const inForce = facts.get('rules-in-force', '');
  const differences = inForce === undefined ? [] : differencesInto(environment, inForce.rules, here.rules);
  const age = inForce === undefined ? 'newer' : ageOf(here, inForce, ancestry);
  if (inForce === undefined || differences.length === 0) {
    return undefined;
  }
  if (age === 'newer' || age === 'unordered' || despite.newWayIn) {
    const how = despite.newWayIn ? 'accepted on purpose' : 'newer than those in force';
    return { gate, outcome: 'met', detail: `${how}: ${differences.join('; ')}` };
  }
  const of = inForce.commit?.slice(0, 12) ?? '';
  const reasons: Record<typeof age, string> = {
    older: `this checkout is older than commit ${of}, whose hod.yaml is in force`,
    apart: `this checkout does not contain commit ${of}, whose hod.yaml is in force`,
    unknown:
      here.commit === undefined
        ? `this hod.yaml is in no git clone; the rules in force are of commit ${of}`
        : `git cannot tell whether this checkout is newer than commit ${of}, whose hod.yaml is in force: ${ancestry.gap}`,
  };
  return {
    gate,
    outcome: 'unmet',
    code: 'older-rules',
    what: 'the rules of this checkout are not in force',
    object: `hod.yaml, for ${environment}`,
    detail: [reasons[age], ...differences],
    remedy: `run it in a checkout that contains ${of}, or take its rules here: \`git checkout ${of} -- hod.yaml\`; if these rules are meant, add --new-way-in --reason "…"`,
  };
}

/** Whether rules by which a release comes in are in force from then on. */
function comeIntoForce(here: CheckoutRules, { facts, ancestry, despite }: RulesKnown): boolean {
  const inForce = facts.get('rules-in-force', '');
  if (inForce === undefined) {
    return true;
  }
  const age = ageOf(here, inForce, ancestry);
  const isChanged = inForce.digest !== here.digest || inForce.commit !== here.commit;
  return isChanged && (age === 'newer' || age === 'unordered' || (age === 'unknown' && despite.newWayIn));
}

function ageOf(here: NamedRules, inForce: NamedRules, ancestry: Ancestry): Age {
  if (inForce.commit === undefined) {
    return here.commit === undefined ? 'unordered' : 'newer';
  }
  if (here.commit === undefined) {
    return 'unknown';
  }
  const contains = (older: CommitId, newer: CommitId): boolean | undefined => ancestry.contains(older, newer);
  const isNewer = contains(inForce.commit, here.commit);
  if (isNewer !== false) {
    return isNewer === true ? 'newer' : 'unknown';
  }
  return contains(here.commit, inForce.commit) === true ? 'older' : 'apart';
}
