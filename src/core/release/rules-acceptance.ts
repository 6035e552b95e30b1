import { approvedKey, type Fact, type Facts } from '../ledger/facts';
import { rulesOf, type NamedRules, type RulesSource } from '../ledger/rules';
import { isSameRemote } from '../remote-identity';
import type { Action } from '../ledger/entries';
import { differencesInto } from './gates/describe-rules';
import { inForceNeeds, rulesInForce, type CheckoutRules } from './gates/rules-in-force';
import { factNeed, refusedBy, type Decision, type Knowledge, type Need } from './knowledge';
import { acceptanceText, isIssued, peopleOf, rulesNamespace, signedBySshKey, whyOther } from './gates/sign-offs';
import { shortDigest } from '../oci/digest';
import type { Timestamp } from '../time';

/** Rules of a checkout that somebody accepts for an environment. */
export interface Acceptance {
  readonly environment: string;
  readonly product: string;
  readonly here: CheckoutRules;
  readonly by: string;
  /** The signature of this person, or the issuer whose keys verified which job it is. */
  readonly proof: Pick<Approval, 'signature' | 'issuer'>;
  readonly reason: string;
  readonly now: Timestamp;
}

/** Somebody who accepts rules. */
type Approval = Fact<'rules-approved'>[number];

type SignedNeed = Extract<Need, { kind: 'signer' }>;

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
 * rules in force ask to sign off a release, and people who count there, proven as asked there: nobody loosens the rules with less than
 * a release needs.
 */
export function decideAcceptance(acceptance: Acceptance, known: Knowledge): Decision<Accepted> {
  const { environment, here } = acceptance;
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
  if (inForce !== undefined && differences.length === 0) {
    return { kind: 'decided', value: { differences, by: [], needed, inForce: true, actions: [] } };
  }
  const counted = countApprovals(acceptance, facts.get('rules-approved', key) ?? [], { inForce, known });
  if (counted.kind !== 'decided') {
    return counted;
  }
  const { all, isNew } = counted.value;
  const enough = all.length >= needed;
  const action = acceptedAction(acceptance, { facts, source, enough });
  const actions = isNew || enough ? [action] : [];
  return { kind: 'decided', value: { differences, by: all, needed, inForce: enough, actions } };
}

function acceptedAction(
  { environment, here: { digest, commit, rules }, reason, proof }: Acceptance,
  {
    facts,
    source,
    enough,
  }: { readonly facts: Facts; readonly source: RulesSource | undefined; readonly enough: boolean },
): Action {
  return {
    kind: 'rules-accepted',
    environment,
    digest,
    commit,
    // A remote goes on vouching for the rules: the one that these stand at, or the one before.
    source,
    rules: facts.get('rules', digest) === undefined ? rules : undefined,
    reason,
    ...proof,
    inForce: enough || undefined,
  };
}

/** The rules in force where others are accepted, and what else is known. */
interface Accepting {
  readonly inForce: Fact<'rules-in-force'> | undefined;
  readonly known: Knowledge;
}

/** Who accepts the rules by now, and whether the ledger has yet to be told of this one. Refused where this one does not count. */
function countApprovals(
  acceptance: Acceptance,
  approvals: readonly Approval[],
  { inForce, known }: Accepting,
): Decision<{ readonly all: readonly string[]; readonly isNew: boolean }> {
  const { environment, here, by, reason, proof, now: at } = acceptance;
  const own = { by, at, reason, ...proof };
  const others = approvals.filter((each) => each.by !== by);
  const before = approvals.find((each) => each.by === by);
  const unknown = known.missing([...others, own].flatMap((each) => signedAcceptance(each, acceptance, inForce)));
  if (unknown !== undefined) {
    return unknown;
  }
  const whyNot = (approval: Approval): string | undefined => whyUncounted(approval, acceptance, { inForce, known });
  const why = whyNot(own);
  if (why !== undefined) {
    return refusedBy('counts', {
      code: 'sign-off-uncounted',
      what: `${environment} would not count this`,
      object: `the rules ${shortDigest(here.digest)} for ${environment}, by ${by}`,
      detail: why,
      remedy: `let people accept them who may sign off a release for ${environment}, in the same way (--sign)`,
    });
  }
  const all = [...others.filter((each) => whyNot(each) === undefined).map((each) => each.by), by];
  const isSame =
    before?.issuer === proof.issuer && (before?.signature === undefined) === (proof.signature === undefined);
  return { kind: 'decided', value: { all, isNew: before === undefined || !isSame } };
}

/** The text under which somebody signed that they accept rules, where they did. */
function signedAcceptance(
  { signature, at }: Approval,
  { product, environment, here }: Acceptance,
  inForce: Fact<'rules-in-force'> | undefined,
): SignedNeed[] {
  const text = acceptanceText({ product, environment, rules: here.digest });
  return signature === undefined
    ? []
    : [{ kind: 'signer', ...signedBySshKey(text, rulesNamespace, { signature, at }, inForce?.rules.trust) }];
}

/** Why the word of somebody does not count, by the rules in force; undefined where it does. */
function whyUncounted(approval: Approval, acceptance: Acceptance, { inForce, known }: Accepting): string | undefined {
  const { by, issuer } = approval;
  const gates = inForce && rulesOf(inForce.rules, acceptance.environment)?.gates;
  const people = peopleOf(gates?.signOffsFrom, inForce?.rules.groups);
  if (people?.includes(by) === false) {
    return `${by} is not of ${gates?.signOffsFrom?.join(' or ') ?? ''}`;
  }
  if (gates?.signOffsProven !== true) {
    return undefined;
  }
  if (issuer !== undefined) {
    return isIssued(by, issuer, inForce?.rules.trust?.issuers)
      ? undefined
      : `the rules in force do not trust ${issuer} for ${by}`;
  }
  const [signed] = signedAcceptance(approval, acceptance, inForce);
  return signed === undefined
    ? `${by} did not sign it, and a name can be made up`
    : whyOther(by, known.signerOf(signed));
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
