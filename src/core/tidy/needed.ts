import { factsReadBy, foldAction } from '../ledger/entries';
import { laneHeadsIn, servedIn } from '../ledger/environment';
import { Facts, laneKey, stepKey, tagKey, targetOf, type TagPlace } from '../ledger/facts';
import type { Tag } from '../oci/tag';
import type { Digest } from '../oci/digest';
import { decided, factNeed, Knowledge, together, type Decision, type Need } from '../release/knowledge';
import { decideRollback } from '../release/rollback';
import { rolledBackAction, targetsOf, type Rollback, type RollbackPlan } from '../release/rollback-plan';
import type { Timestamp } from '../time';

/** An environment, as far as it matters for what it needs. */
export interface NeedyEnvironment extends Pick<Rollback, 'before' | 'places'> {
  readonly name: string;
  /** So many rollbacks, one after the other, must stay possible. */
  readonly rollbacks: number;
  /** Every moving tag that it had. */
  readonly tags: readonly TagPlace[];
  /** When its content is decided on. */
  readonly now: Timestamp;
}

/** What content is needed for. */
export type NeededFor = 'served' | 'tag' | 'rollback' | 'withdrawn';

/** Content of a component that an environment needs, whatever hod.yaml says. */
export interface NeededContent {
  readonly environment: string;
  readonly component: string;
  readonly digest: Digest;
  readonly for: NeededFor;
  /** The moving tag that leads to it. */
  readonly tag?: Tag | undefined;
}

/**
 * Finds what an environment needs: what it serves, what moving tags lead to, what rollbacks would go back to, and what was
 * withdrawn while nothing new has come in since.
 */
export function decideNeeded(environment: NeedyEnvironment, known: Knowledge): Decision<readonly NeededContent[]> {
  const { name } = environment;
  const { facts } = known;
  const unasked = known.missing([factNeed('environment', name)]);
  if (unasked !== undefined) {
    return unasked;
  }
  const lanes = facts.get('environment', name)?.lanes ?? [];
  const unknown = known.missing([
    ...lanes.map((lane) => factNeed('lane', laneKey(name, lane))),
    ...environment.tags.map(({ repository, tag }) => factNeed('tag', tagKey(repository, tag))),
  ]);
  if (unknown !== undefined) {
    return unknown;
  }
  const served = servedIn(facts, name).map((each) => contentOf(each, { environment: name, for: 'served' }));
  const led = environment.tags.flatMap(({ component, repository, tag }) => {
    const target = targetOf(facts.get('tag', tagKey(repository, tag)));
    return target === undefined
      ? []
      : [contentOf({ component, digest: target.digest }, { environment: name, for: 'tag', tag })];
  });
  // Of a line that no moving tag shows any more, nobody rolls back alone.
  const shown = lanes.filter((lane) =>
    laneHeadsIn(facts, name, lane).some(({ digest }) => led.some((each) => each.digest === digest)),
  );
  const parts = together<readonly NeededContent[]>([
    ...[undefined, ...shown].map((lane) => decideRollbacks(lane, environment, known)),
    decideWithdrawn(name, known),
  ]);
  if (parts.kind !== 'decided') {
    return parts;
  }
  return decided([...served, ...led, ...parts.value.flat()]);
}

function contentOf(
  { component, digest }: { readonly component: string; readonly digest: Digest },
  why: Omit<NeededContent, 'component' | 'digest'>,
): NeededContent {
  return { component, digest, ...why };
}

/** So many steps are asked for at once. */
const window = 8;

/** Finds what was withdrawn last, as long as nothing has come in since: people look for what was wrong with it. */
function decideWithdrawn(environment: string, known: Knowledge): Decision<readonly NeededContent[]> {
  const { facts } = known;
  const last = facts.get('environment', environment)?.steps ?? 0;
  const releases = new Set<string>();
  for (let number = last; number > 0; number -= 1) {
    const unknown = known.missing(
      Array.from({ length: window }, (_, at) => number - at)
        .filter((each) => each > 0)
        .map((each) => factNeed('step', stepKey(environment, each))),
    );
    if (unknown !== undefined) {
      return unknown;
    }
    const step = facts.get('step', stepKey(environment, number));
    if (step === undefined || (step.back === undefined && step.left === undefined)) {
      break;
    }
    step.withdrew.forEach((release) => releases.add(release));
  }
  const unknown = known.missing([...releases].map((release) => factNeed('release', release)));
  return (
    unknown ??
    decided(
      [...releases]
        .flatMap((release) => facts.get('release', release)?.components ?? [])
        .map((each) => contentOf(each, { environment, for: 'withdrawn' })),
    )
  );
}

/**
 * Finds what rollbacks of an environment, or of one line of it, would go back to, one after the other: plays the decision that each of
 * them would make on the facts that the one before would leave.
 */
function decideRollbacks(
  lane: string | undefined,
  { name, before, places, rollbacks, now }: NeedyEnvironment,
  known: Knowledge,
): Decision<readonly NeededContent[]> {
  const found: NeededContent[] = [];
  const facts = new Facts([]);
  facts.add(known.facts);
  for (let count = 1; count <= rollbacks; count += 1) {
    // A reason of its own: the same again would be the same rollback again.
    const rollback = { environment: name, to: undefined, reason: `${count}`, lane, before, places };
    const plan = planAlone(rollback, facts);
    if (plan.kind === 'needs') {
      return plan;
    }
    if (plan.kind === 'refused') {
      break;
    }
    // What a lane is left with proves that the run may write there, and so must be whole, too.
    const content = [...targetsOf(plan.value), ...plan.value.serves, ...plan.value.leaving];
    found.push(...content.map((each) => contentOf(each, { environment: name, for: 'rollback' })));
    for (const action of rolledBackAction(rollback, plan.value)) {
      const unknown = factsReadBy(action).filter((key) => !facts.has(key));
      if (unknown.length > 0) {
        return { kind: 'needs', needs: unknown.map((fact): Need => ({ kind: 'fact', fact })) };
      }
      const after = foldAction(action, { seq: 0, at: now, actor: '' }, facts);
      after.all().forEach(({ key, text }) => facts.load(key, text));
    }
  }
  return decided(found);
}

/** Plans a rollback as if the registries served what the ledger says. It needs facts alone. */
function planAlone(rollback: Rollback, facts: Facts): Decision<RollbackPlan> {
  const world = new Knowledge();
  world.facts = facts;
  for (;;) {
    const plan = decideRollback(rollback, world);
    if (plan.kind !== 'needs') {
      return plan;
    }
    const unknown = plan.needs.filter((need) => need.kind === 'fact');
    if (unknown.length > 0) {
      return { kind: 'needs', needs: unknown };
    }
    for (const need of plan.needs) {
      if (need.kind !== 'served') {
        throw new Error(`a rollback asks for ${need.kind}`);
      }
      const { repository, tag } = need;
      const key = { kind: 'tag', key: tagKey(repository, tag) } as const;
      if (!facts.has(key)) {
        return { kind: 'needs', needs: [{ kind: 'fact', fact: key }] };
      }
      world.tellServed(repository, tag, targetOf(facts.get('tag', key.key))?.digest);
    }
  }
}
