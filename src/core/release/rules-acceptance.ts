import { approvedKey, type Fact } from '../ledger/facts';
import { rulesOf, type NamedRules, type RulesSource } from '../ledger/rules';
import { isSameRemote } from '../remote-identity';
import type { Action } from '../ledger/entries';
import { differencesInto } from './gates/describe-rules';
import { inForceNeeds, rulesInForce, type CheckoutRules } from './gates/rules-in-force';
import { factNeed, type Decision, type Knowledge } from './knowledge';

/** Rules of a checkout that somebody accepts for an environment. */
export interface Acceptance {
  readonly environment: string;
  readonly here: CheckoutRules;
  readonly by: string;
  readonly reason: string;
}

/** What accepting rules comes to. */
export interface Accepted {
  /** What differs from the rules in force, in words. */
  readonly differences: readonly string[];
  /** Who accepts them, this one included. */
  readonly by: readonly string[];
  /** How many people must accept them: as many as the environment asks to sign off a release, one at least. */
  readonly needed: number;
  readonly inForce: boolean;
  readonly actions: readonly Action[];
}

/**
 * Decides what becomes of rules that somebody accepts for an environment. They are in force once as many people accept them as the
 * rules in force ask to sign off a release: nobody loosens the rules with fewer than a release needs.
 */
export function decideAcceptance({ environment, here, by, reason }: Acceptance, known: Knowledge): Decision<Accepted> {
  const key = approvedKey(environment, here.digest);
  const unknown = known.missing([
    ...inForceNeeds(environment),
    factNeed('rules', here.digest),
    factNeed('rules-approved', key),
    anywhere,
  ]);
  if (unknown !== undefined) {
    return unknown;
  }
  const { facts } = known;
  const inForce = rulesInForce(facts, environment);
  const source = known.standingOf(anywhere)?.source ?? inForce?.source;
  const differences =
    inForce === undefined
      ? []
      : [...differencesInto(environment, inForce.rules, here.rules), ...moved(inForce, source)];
  const needed = peopleNeeded(environment, inForce);
  const before = (facts.get('rules-approved', key) ?? []).map((each) => each.by);
  if (inForce !== undefined && differences.length === 0) {
    return { kind: 'decided', value: { differences, by: [], needed, inForce: true, actions: [] } };
  }
  const all = [...new Set([...before, by])];
  const enough = all.length >= needed;
  const isNew = enough || !before.includes(by);
  const { digest, commit, rules } = here;
  const action: Action = {
    kind: 'rules-accepted',
    environment,
    digest,
    commit,
    // A remote goes on vouching for the rules: the one that these stand at, or the one before.
    source,
    rules: facts.get('rules', digest) === undefined ? rules : undefined,
    reason,
    inForce: enough || undefined,
  };
  return { kind: 'decided', value: { differences, by: all, needed, inForce: enough, actions: isNew ? [action] : [] } };
}

/** Where the rules of the checkout stand, at the default branch of the remote of this clone. */
const anywhere = { kind: 'standing', branches: undefined } as const;

/** That another remote vouches from now on, in words; nothing where it is the same. */
function moved({ source: before }: Pick<NamedRules, 'source'>, now: RulesSource | undefined): string[] {
  return before === undefined || now === undefined || isSameRemote(before.remote, now.remote)
    ? []
    : [`remote: ${before.branch} of ${before.remote} in force, ${now.branch} of ${now.remote} here`];
}

/** How many people must accept other rules for an environment. */
function peopleNeeded(environment: string, inForce: Fact<'rules-in-force'> | undefined): number {
  const gates = inForce && rulesOf(inForce.rules, environment)?.gates;
  return Math.max(1, gates?.signOffs ?? 1);
}
