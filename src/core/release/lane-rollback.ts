import { describePosition } from '../tags/ordering';
import { laneHeadsIn, servedIn } from '../ledger/environment';
import { laneName } from '../ledger/lane';
import { laneKey, tagKey, type Facts, type LaneHead, type ServedComponent, type Step } from '../ledger/facts';
import type { ReleaseId } from '../ledger/release';
import { factNeed, refusedBy, type Decision, type Knowledge } from './knowledge';
import { planRollback, type Outcome, type Rollback, type RollbackPlan } from './rollback-plan';
import { movedByRollbacks, uniqueTags } from './rollback-tags';
import {
  laneChanges,
  playAgain,
  stepsFrom,
  tagChanges,
  type LanePlace,
  type Stay,
  type Stays,
  type Steps,
} from './rollback-steps';

/** A rollback of one lane. */
type LaneRollback = Rollback & { readonly lane: string };

/** What came to a lane of an environment, component by component. */
type LaneStays = readonly Stays<LanePlace, LaneHead>[];

/**
 * Decides what a rollback of one line of versions, or of one branch, changes. Its newest releases are withdrawn, back to what
 * was its newest before; where nothing was, the lane ends there. What the environment serves stays, and so do the other lanes;
 * every tag that was at what is withdrawn ends with the newest that stood there and is not.
 */
export function decideLaneRollback(rollback: LaneRollback, known: Knowledge): Decision<RollbackPlan> {
  const { environment, lane } = rollback;
  const unknown = known.missing([factNeed('environment', environment), factNeed('lane', laneKey(environment, lane))]);
  if (unknown !== undefined) {
    return unknown;
  }
  const { facts } = known;
  const last = facts.get('environment', environment)?.steps ?? 0;
  const read = stepsFrom(environment, { first: 1, last }, known);
  if (read.kind !== 'decided') {
    return read;
  }
  const steps = read.value;
  const lanes = playAgain(0, { last, steps }, laneChanges);
  const own = lanes.filter(({ of }) => of.lane === lane);
  const begun = finishedStep(rollback, steps);
  if (laneHeadsIn(facts, environment, lane).length === 0 && begun === undefined) {
    return refusedBy('lane', noSuchLane(rollback, facts));
  }
  const left = begun === undefined ? leftBehind(rollback, own, steps) : [];
  if (left === undefined) {
    return refusedBy('lane', neverNewest(rollback, facts));
  }
  const served = servedIn(facts, environment).filter(({ release }) => left.includes(release));
  const [first] = served;
  if (first !== undefined) {
    return refusedBy('lane', isServed(rollback, first));
  }
  return planRollback(rollback, outcomeOf(rollback, left, { lanes, begun, last, steps }), steps, known);
}

/**
 * Finds the releases that a lane leaves behind, the newest first; none where the lane already is at the named release. Undefined
 * where the named release never was its newest.
 */
function leftBehind({ to }: LaneRollback, own: LaneStays, steps: Steps): ReleaseId[] | undefined {
  const decisions = [...new Set(own.flatMap(({ stays }) => stays.map((stay) => decisionOf(stay, steps))))].sort(
    (a, b) => b - a,
  );
  const staysOf = (decision: number): Stay<LaneHead>[] =>
    own.flatMap(({ stays }) => stays.filter((stay) => decisionOf(stay, steps) === decision));
  const digests = (without: readonly number[]): string =>
    own
      .map(({ stays }) => stays.filter((stay) => !without.includes(decisionOf(stay, steps))).at(-1)?.value.digest ?? '')
      .join();
  const isMeant = (decision: number, at: number): boolean =>
    to === undefined
      ? at > 0 && digests(decisions.slice(0, at)) !== digests([])
      : staysOf(decision).some(({ value }) =>
          'version' in to ? value.version === to.version : value.commit === to.commit,
        );
  const found = decisions.findIndex(isMeant);
  if (found === -1 && to !== undefined) {
    return undefined;
  }
  const behind = decisions.slice(0, found === -1 ? undefined : found);
  return [...new Set(behind.flatMap(staysOf).map(({ value }) => value.release))];
}

/** The last step that changed a lane, if that was this very rollback: a run that was killed may not have finished it. */
function finishedStep({ lane, to, reason }: LaneRollback, steps: Steps): Step | undefined {
  const latest = [...steps.values()].filter(({ lanes }) => lanes.some((each) => each.lane === lane)).at(-1);
  return to === undefined && latest?.left?.lane === lane && latest.reason === reason ? latest : undefined;
}

/** The first step of the decision that something came with. */
function decisionOf({ step }: Stay<unknown>, steps: Steps): number {
  let first = step;
  while (steps.get(first)?.together === true) {
    first -= 1;
  }
  return first;
}

function outcomeOf(
  { lane, places }: LaneRollback,
  left: readonly ReleaseId[],
  { lanes, begun: step, last, steps }: { lanes: LaneStays; begun: Step | undefined; last: number; steps: Steps },
): Outcome {
  const after = <O, V extends { readonly release: ReleaseId }>({ key, of, stays }: Stays<O, V>) => ({
    key,
    of,
    is: stays.filter(({ value }) => !left.includes(value.release)).at(-1)?.value ?? null,
    // This rollback moves it, or did when it was begun.
    isOurs: stays.some(({ value }) => left.includes(value.release)),
  });
  const heads = lanes.map((each) => ({ ...after(each), was: each.stays.at(-1)?.value }));
  const own = heads.filter(({ of }) => of.lane === lane);
  const serves = own.flatMap(({ is }) => is ?? []);
  const begun = new Set((step === undefined ? [] : tagChanges(step)).map(({ key }) => key));
  const tags = playAgain(0, { last, steps }, tagChanges)
    .map(after)
    .filter(
      ({ key, of, is, isOurs }) =>
        isOurs ||
        begun.has(key) ||
        // Where the registry removes no tags, a removed tag may point to a release that is withdrawn now.
        (is === null && places.get(of.component) === of.repository),
    );
  const moved = new Set(tags.map(({ key }) => key));
  return {
    to: { back: undefined, left: { lane, releases: [...left] } },
    since: 0,
    served: [],
    changed: own
      .filter(({ is, was }) => is?.digest !== was?.digest || is?.release !== was?.release)
      .map(({ of: { component }, is, was }) => ({ component, is, was })),
    serves,
    left,
    lanes: heads.filter(({ isOurs }) => isOurs),
    tags,
    // Runs that were killed may never have written the tags of what is the newest of the lane, nor those that rollbacks moved.
    unmoved: uniqueTags([
      ...serves.flatMap(({ component, repository, tags: names }) =>
        names.map((tag) => ({ component, repository, tag })),
      ),
      ...movedByRollbacks(last, steps).filter(({ component, repository }) => places.get(component) === repository),
    ]).filter(({ repository, tag }) => !moved.has(tagKey(repository, tag))),
  };
}

type Refusal = Parameters<typeof refusedBy>[1];

function noSuchLane({ environment, lane }: LaneRollback, facts: Facts): Refusal {
  const known = (facts.get('environment', environment)?.lanes ?? []).map(laneName);
  return {
    code: 'no-such-line',
    what: `${environment} has no release of this line`,
    object: `${laneName(lane)} in ${environment}`,
    detail:
      known.length === 0 ? `${environment} serves no lines` : `${environment} serves the lines ${known.join(', ')}`,
    remedy: `name one of these lines; \`hod status ${environment}\` shows the newest release of each`,
  };
}

function neverNewest({ environment, lane, to }: LaneRollback, facts: Facts): Refusal {
  const named = to === undefined ? 'that release' : describePosition(to);
  const heads = laneHeadsIn(facts, environment, lane);
  return {
    code: 'not-served-before',
    what: 'this line cannot roll back to that release',
    object: `${laneName(lane)} in ${environment} to ${named}`,
    detail: `its newest release is ${[...new Set(heads.map(describePosition))].join(', ')}; ${named} never was, or was withdrawn`,
    remedy: `name an earlier release of this line (\`hod timeline --env ${environment}\`), or leave --to out`,
  };
}

function isServed({ environment, lane }: LaneRollback, { version, commit }: ServedComponent): Refusal {
  const name = describePosition({ version, commit });
  return {
    code: 'line-served',
    what: `${environment} serves the release that this would withdraw`,
    object: `${laneName(lane)} in ${environment}`,
    detail: `${environment} serves ${name}, the newest release of ${laneName(lane)}: the whole environment has to go back`,
    remedy: `\`hod rollback ${environment} --reason "…"\``,
  };
}
