import { describePosition } from '../tags/ordering';
import { servedIn } from '../ledger/environment';
import { tagKey, type Facts } from '../ledger/facts';
import { factNeed, refusedBy, type Decision, type Knowledge } from './knowledge';
import { decideLaneRollback } from './lane-rollback';
import { planRollback, type Outcome, type Rollback, type RollbackPlan } from './rollback-plan';
import {
  hasLeftLane,
  laneChanges,
  leftSince,
  servedAfter,
  standing,
  stepsFrom,
  tagChanges,
  takeOvers,
  type Span,
  type Steps,
  type TakeOver,
} from './rollback-steps';
import { movedByRollbacks, placedBefore, uniqueTags } from './rollback-tags';

/** How many steps are looked at first, and how many times as many each time that this was not enough. */
const lookBack = 8;

/**
 * Decides what a rollback changes. One lane: see {@link decideLaneRollback}. Else the environment serves what it served after an earlier step; every
 * release that took over since is withdrawn; what came beside since stays. Each tag and each line
 * ends with the newest that stood there and is not withdrawn.
 */
export function decideRollback(rollback: Rollback, known: Knowledge): Decision<RollbackPlan> {
  const { environment, lane } = rollback;
  if (lane !== undefined) {
    return decideLaneRollback({ ...rollback, lane }, known);
  }
  const unknown = known.missing([factNeed('environment', environment)]);
  if (unknown !== undefined) {
    return unknown;
  }
  const last = known.facts.get('environment', environment)?.steps ?? 0;
  for (let count = lookBack; ; count *= 4) {
    const first = Math.max(1, last - count + 1);
    const read = stepsFrom(environment, { first, last }, known);
    if (read.kind !== 'decided') {
      return read;
    }
    const steps = read.value;
    const found = findTarget(rollback, last, steps, known.facts);
    if (found !== undefined && found.back >= first - 1) {
      const span = { back: found.back, last, steps };
      if (first === 1 || !hasLeftLane(span)) {
        return planRollback(rollback, outcomeOf(rollback, found, span, known.facts), steps, known);
      }
    }
    if (first === 1) {
      return nothingBefore(rollback, known);
    }
  }
}

/** Where to go back to, and what took over since. */
interface Target {
  readonly back: number;
  readonly since: readonly TakeOver[];
}

/**
 * Undefined where it is not among these steps. Where the last step was a rollback for the same reason
 * and none is named, this is that rollback again, which may have been ended before it was done.
 */
function findTarget(
  { environment, to, reason }: Rollback,
  last: number,
  steps: Steps,
  facts: Facts,
): Target | undefined {
  const latest = steps.get(last);
  if (to === undefined && latest?.back !== undefined && latest.reason === reason) {
    return { back: latest.back, since: [] };
  }
  const served = servedIn(facts, environment);
  const since: TakeOver[] = [];
  for (const each of takeOvers(last, steps)) {
    const then = servedAfter({ back: each.last, last, steps }, served);
    // What was left behind on its lane since does not come back with what was served beside it.
    const left = leftSince(each.last, steps);
    const isWithdrawn = then.some(({ is }) => is !== null && left.includes(is.release));
    const isMeant =
      to === undefined
        ? since.length > 0 && then.some(({ is, was }) => is?.digest !== was?.digest)
        : each.steps.some(({ of }) => ('version' in to ? of?.version === to.version : of?.commit === to.commit));
    if (isMeant && !isWithdrawn) {
      return { back: each.last, since };
    }
    since.push(each);
  }
  return undefined;
}

function outcomeOf({ environment, places }: Rollback, { since }: Target, span: Span, facts: Facts): Outcome {
  const now = servedIn(facts, environment);
  const served = servedAfter(span, now);
  const changed = served.filter(({ is, was }) => is?.digest !== was?.digest || is?.release !== was?.release);
  // What came beside in the same decision was never served here: it stays.
  const leaving = since.flatMap((each) => each.steps.filter((step) => step.served.length > 0));
  const untouched = now.filter(({ component }) => !served.some((each) => each.component === component));
  const serves = [...untouched, ...served.flatMap(({ is }) => (is === null ? [] : [is]))];
  const lanes = standing(span, laneChanges);
  const tags = standing(span, tagChanges);
  // Killed runs may never have written the tags of the releases that are served then, nor those that rollbacks moved;
  // a rollback to what is served also writes the tags of releases that something newer replaced meanwhile.
  const tagged = new Set(tags.map(({ key }) => key));
  const earlier = since.length === 0 ? placedBefore(span.steps) : movedByRollbacks(span.back, span.steps);
  const unmoved = uniqueTags([
    ...serves.flatMap(({ component, repository, tags: names }) => names.map((tag) => ({ component, repository, tag }))),
    ...[...earlier, ...(facts.get('environment', environment)?.gone ?? [])].filter(
      ({ component, repository }) => places.get(component) === repository,
    ),
  ]).filter(({ repository, tag }) => !tagged.has(tagKey(repository, tag)));
  const left = [...new Set(leaving.flatMap(({ of }) => (of === undefined ? [] : [of.release])))];
  const { back } = span;
  return { to: { back, left: undefined }, since: back, served, changed, serves, left, lanes, tags, unmoved };
}

function nothingBefore({ environment, to, before }: Rollback, { facts }: Knowledge): Decision<never> {
  const served = [...new Set(servedIn(facts, environment).map(describePosition))].join(', ') || 'nothing';
  const { lanes = [] } = facts.get('environment', environment) ?? {};
  const lines = lanes.length < 2 ? '' : '; `--line` rolls back one line alone';
  if (to === undefined) {
    return refusedBy('served-before', {
      code: 'nothing-before',
      what: 'there is no earlier release',
      object: environment,
      detail: `${environment} serves ${served}, and has served no other release`,
      remedy: `publish and promote a fix${lines}`,
    });
  }
  return refusedBy('served-before', {
    code: 'not-served-before',
    what: 'this environment cannot roll back to that release',
    object: `${environment} to ${describePosition(to)}`,
    detail: `${environment} serves ${served}; it never served ${describePosition(to)}, or was rolled back from that release`,
    remedy: `name a release that ${environment} served (\`hod status\`), or leave --to out; ${before.length === 0 ? '`hod publish`' : `\`hod promote ${environment}\``} brings in other releases${lines}`,
  });
}
