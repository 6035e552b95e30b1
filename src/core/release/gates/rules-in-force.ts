import type { CommitId } from '../../commit';
import type { Fact, FactKey, Facts } from '../../ledger/facts';
import type { JudgedBy, NamedRules, ProductRules } from '../../ledger/rules';
import type { Ancestry } from '../../tags/ordering';
import type { Despite } from '../despite';
import { isSameRemote } from '../../remote-identity';
import { differencesInto } from './describe-rules';
import type { Gate } from './gate';
import { factNeed, type Knowledge, type Need, type Standing } from '../knowledge';

/** The rules that hod.yaml has in a checkout: what a release that it brings in is judged by. */
export interface CheckoutRules extends NamedRules {
  readonly rules: ProductRules;
}

/** How the commit of a checkout stands to the commit of the rules in force. */
type Age = 'newer' | 'older' | 'apart' | 'unknown' | 'unordered';

/** What is known where rules are compared. */
export interface RulesKnown {
  readonly facts: Facts;
  readonly ancestry: Ancestry;
  readonly despite: Despite;
  /** Undefined where nobody asked. */
  readonly standing: Standing | undefined;
}

/** A release that rules judge: where it goes, and whether it is of a followed branch. */
interface Judged {
  readonly environment: string;
  readonly isFollowed: boolean;
}

/** Returns the facts that rules are compared by. */
export function rulesFacts(here: CheckoutRules | undefined, environment: string): Need[] {
  return here === undefined ? [] : [factNeed('rules', here.digest), ...inForceNeeds(environment)];
}

/** Returns the facts that say which rules are in force for an environment. */
export function inForceNeeds(environment: string): Need[] {
  return inForceKeys(environment).map(({ kind, key }) => factNeed(kind, key));
}

/** Returns the keys of the facts that say which rules are in force for an environment. */
export function inForceKeys(environment: string): FactKey[] {
  return ['', environment].map((key) => ({ kind: 'rules-in-force', key }));
}

/** Returns the rules in force for an environment: those of the product, or those that people accepted for it later. */
export function rulesInForce(facts: Facts, environment: string): Fact<'rules-in-force'> | undefined {
  const [whole, own] = ['', environment].map((key) => facts.get('rules-in-force', key));
  return own === undefined || (whole !== undefined && whole.seq > own.seq) ? whole : own;
}

/**
 * Returns the branches that are followed by the rules in force; undefined where these are the usual ones.
 */
export function followsOf(rules: ProductRules | undefined): readonly string[] | undefined {
  return rules?.environments[0]?.follows;
}

/** Returns what must be known of commits and of the remote to know which rules count. */
export function rulesNeeds(here: CheckoutRules | undefined, facts: Facts, judged: Judged): Need[] {
  if (here === undefined) {
    return [];
  }
  const inForce = rulesInForce(facts, judged.environment);
  const other = inForce?.commit;
  const order: Need[] =
    here.commit === undefined || other === undefined ? [] : [{ kind: 'order', commit: here.commit, other }];
  const asks =
    inForce?.source === undefined
      ? judged.isFollowed && (inForce?.digest !== here.digest || inForce.commit !== here.commit)
      : inForce.digest !== here.digest;
  return asks ? [...order, standingNeed(inForce)] : order;
}

/**
 * The question where the rules of the checkout stand: at the head of the branch that the rules in force came from, or of one that
 * they follow; of the default branch of the remote where no remote vouched for those.
 */
export function standingNeed(inForce: Fact<'rules-in-force'> | undefined): Extract<Need, { kind: 'standing' }> {
  const source = inForce?.source;
  return {
    kind: 'standing',
    branches: source === undefined ? undefined : [source.branch, ...(followsOf(inForce?.rules) ?? [])],
  };
}

/** Returns where the rules of the checkout stand, by what is known; undefined where nobody asked. */
export function standingKnown(known: Knowledge, environment: string): Standing | undefined {
  return known.standingOf(standingNeed(rulesInForce(known.facts, environment)));
}

/** Returns the rules that a release was judged by, as its entry keeps them. */
export function judgedBy(here: CheckoutRules, known: RulesKnown, judged: Judged): JudgedBy {
  const { digest, commit, rules } = here;
  const isNewlyInForce = judged.isFollowed && comeIntoForce(here, known, judged.environment);
  return {
    digest,
    commit,
    ...(isNewlyInForce && known.standing?.source !== undefined ? { source: known.standing.source } : {}),
    ...(known.facts.get('rules', digest) === undefined ? { rules } : {}),
    ...(isNewlyInForce ? { inForce: true } : {}),
  };
}

/**
 * Whether a checkout may judge what comes into an environment. It may with the rules in force for it. Other rules count where they
 * stand in hod.yaml at the head of a branch that those in force follow, at the same remote; no branch loosens them. Where no remote
 * ever vouched for rules, the newer commit counts. Undefined where the rules do not differ.
 */
export function judgedByNewest(environment: string, here: CheckoutRules, known: RulesKnown): Gate | undefined {
  const { facts, ancestry, despite, standing } = known;
  const inForce = rulesInForce(facts, environment);
  const differences = inForce === undefined ? [] : differencesInto(environment, inForce.rules, here.rules);
  if (inForce === undefined || differences.length === 0) {
    return undefined;
  }
  if (inForce.source !== undefined) {
    const vouched = whyNotVouched(here, inForce, known);
    return vouched === undefined
      ? { gate, outcome: 'met', detail: `at the head of ${standing?.source?.branch ?? ''}: ${differences.join('; ')}` }
      : rulesChanged(environment, vouched, differences);
  }
  const age = ageOf(here, inForce, ancestry);
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

const gate = 'rules';

function rulesChanged(environment: string, why: string, differences: readonly string[]): Gate {
  return {
    gate,
    outcome: 'unmet',
    code: 'rules-changed',
    what: `this checkout has other rules for ${environment}`,
    object: `hod.yaml, for ${environment}`,
    detail: [why, ...differences],
    remedy: `merge the change of hod.yaml, and promote from there; or let those who may sign off for ${environment} accept it: \`hod record rules --for ${environment} --reason "…"\``,
  };
}

/**
 * Why rules do not stand where those in force came from; undefined where they do: at the head of that branch, or of another followed
 * branch that contains the commit of those. A branch for an old line has older rules, and does not bring them back.
 */
export function whyNotVouched(
  here: NamedRules,
  inForce: Pick<NamedRules, 'source' | 'commit'>,
  { standing, ancestry }: Pick<RulesKnown, 'standing' | 'ancestry'>,
): string | undefined {
  const { source } = inForce;
  if (standing?.source === undefined) {
    return standing?.why ?? 'nobody has looked where they stand';
  }
  const { remote, branch } = standing.source;
  if (source === undefined || (isSameRemote(source.remote, remote) && source.branch === branch)) {
    return undefined;
  }
  if (!isSameRemote(source.remote, remote)) {
    return `they stand at ${remote}, and the rules in force are of ${source.remote}`;
  }
  return ageOf(here, inForce, ancestry) === 'newer'
    ? undefined
    : `they stand at the head of ${branch}, which does not contain commit ${inForce.commit?.slice(0, 12) ?? ''}, whose hod.yaml is in force`;
}

/** Whether rules by which a release comes in are in force from then on. */
function comeIntoForce(here: CheckoutRules, known: RulesKnown, environment: string): boolean {
  const { facts, ancestry, despite } = known;
  const inForce = rulesInForce(facts, environment);
  if (inForce === undefined) {
    return true;
  }
  if (inForce.source !== undefined) {
    return inForce.digest !== here.digest && whyNotVouched(here, inForce, known) === undefined;
  }
  const age = ageOf(here, inForce, ancestry);
  const isChanged = inForce.digest !== here.digest || inForce.commit !== here.commit;
  return isChanged && (age === 'newer' || age === 'unordered' || (age === 'unknown' && despite.newWayIn));
}

function ageOf(here: Pick<NamedRules, 'commit'>, inForce: Pick<NamedRules, 'commit'>, ancestry: Ancestry): Age {
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
