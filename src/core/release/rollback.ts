import type { Digest } from '../oci/digest';
import type { RepositoryName } from '../oci/reference';
import { describePosition } from '../tags/ordering';
import type { Action } from '../ledger/entries';
import { laneHeadIn, servedIn } from '../ledger/environment';
import { unmetAmong } from './gates/gate';
import { wasAdmitted } from './gates/way-in';
import {
  everUnder,
  laneKey,
  stepKey,
  tagKey,
  targetOf,
  type RollbackChanges,
  type Facts,
  type LaneHead,
  type Release,
  type ServedComponent,
  type TagPlace,
  type TagTarget,
} from '../ledger/facts';
import { factNeed, refusedBy, type Decision, type Knowledge, type Need } from './knowledge';
import type { NamedChoice } from './promotion';
import { contentId, type ContentId, type ReleaseId } from '../ledger/release';
import {
  servedAfter,
  servedSince,
  standing,
  stepOf,
  stoodSince,
  takeOvers,
  type Span,
  type Steps,
  type TakeOver,
} from './rollback-steps';
import { decideTag, movedByRollbacks, placedBefore, restoreTag, uniqueTags } from './rollback-tags';
import { decideInstead, type Instead } from './stand-in';
import type { TagDecision } from './tag-decisions';

/** Where an environment is to go back to: a release that it served, or what it served before. */
export type BackTo = NamedChoice | undefined;

/** A rollback that was asked for. */
export interface Rollback {
  readonly environment: string;
  readonly to: BackTo;
  readonly reason: string;
  /** The environment that its releases come from; null where builds are published into it. */
  readonly from: string | null;
  /** Where hod.yaml has each component of the environment. */
  readonly places: ReadonlyMap<string, RepositoryName>;
}

/** What a rollback changes. */
export interface RollbackPlan extends RollbackChanges {
  /** The environment is as it was after this step. */
  readonly back: number;
  /** The releases that may not come back but on purpose, newest first. */
  readonly withdrawn: readonly Release[];
  /** The releases that are served again. */
  readonly releases: readonly ReleaseId[];
  /** Everything that the environment serves then. */
  readonly serves: readonly ServedComponent[];
  /** The components of which it serves something else then. */
  readonly changed: readonly string[];
  readonly decisions: readonly TagDecision[];
}

/** How many steps are looked at first, and how many times as many each time that this was not enough. */
const lookBack = 8;

/**
 * Decides what a rollback changes. The environment serves what it served after an earlier step; every
 * release that took over since is withdrawn; what came beside since stays. Each tag and each line
 * ends with the newest that stood there and is not withdrawn.
 */
export function decideRollback(rollback: Rollback, known: Knowledge): Decision<RollbackPlan> {
  const { environment } = rollback;
  const unknown = known.missing([factNeed('environment', environment)]);
  if (unknown !== undefined) {
    return unknown;
  }
  const last = known.facts.get('environment', environment)?.steps ?? 0;
  for (let count = lookBack; ; count *= 4) {
    const first = Math.max(1, last - count + 1);
    const numbers = Array.from({ length: last - first + 1 }, (_, at) => first + at);
    const missing = known.missing(numbers.map((step) => factNeed('step', stepKey(environment, step))));
    if (missing !== undefined) {
      return missing;
    }
    const steps = new Map(numbers.map((number) => [number, stepOf(known.facts, environment, number)]));
    const found = findTarget(rollback, last, steps, known.facts);
    if (found !== undefined && found.back >= first - 1) {
      return changesSince(rollback, found, { back: found.back, last, steps }, known);
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
    const isMeant =
      to === undefined
        ? since.length > 0 &&
          servedAfter({ back: each.last, last, steps }, served).some(({ is, was }) => is?.digest !== was?.digest)
        : each.steps.some(({ of }) => ('version' in to ? of?.version === to.version : of?.commit === to.commit));
    if (isMeant) {
      return { back: each.last, since };
    }
    since.push(each);
  }
  return undefined;
}

/** What a rollback leads to, before it is known what stands in the registries. */
interface Outcome {
  /** What became of each component that something happened to since. */
  readonly served: ReturnType<typeof servedAfter>;
  readonly changed: ReturnType<typeof servedAfter>;
  readonly serves: readonly ServedComponent[];
  /** The releases that are left behind. */
  readonly left: readonly ReleaseId[];
  readonly lanes: readonly { readonly of: { lane: string; component: string }; readonly is: LaneHead | null }[];
  readonly tags: readonly { readonly key: string; readonly of: TagPlace; readonly is: TagTarget | null }[];
  /** Tags that stay where they are, and may stand elsewhere. */
  readonly unmoved: readonly TagPlace[];
}

function changesSince(rollback: Rollback, target: Target, span: Span, known: Knowledge): Decision<RollbackPlan> {
  const outcome = outcomeOf(rollback, target, span, known.facts);
  const { serves, left, lanes, tags, unmoved } = outcome;
  const refused = refusedElsewhere(rollback, outcome);
  if (refused !== undefined) {
    return refused;
  }
  const { environment, from, places } = rollback;
  const unknown = known.missing([
    ...[...left, ...serves.map(({ release }) => release)].map((release) => factNeed('release', release)),
    ...lanes.map(({ of }) => factNeed('lane', laneKey(environment, of.lane))),
    ...[...tags.map(({ of }) => of), ...unmoved].flatMap(({ repository, tag }): Need[] => [
      factNeed('tag', tagKey(repository, tag)),
      { kind: 'served', repository, tag },
    ]),
  ]);
  if (unknown !== undefined) {
    return unknown;
  }
  const admissions = serves.flatMap((each) =>
    releaseNamed(each.release, known).map((release) =>
      wasAdmitted(each, release, { environment, from, repositoryOf: (component) => places.get(component) }),
    ),
  );
  if (unmetAmong(admissions).length > 0) {
    return { kind: 'refused', gates: admissions };
  }
  const isGone = ({ repository, tag }: TagPlace): boolean =>
    known.facts.get('tag', tagKey(repository, tag))?.gone === true;
  const removed = [...tags.filter(({ is }) => is === null).map(({ of }) => of), ...unmoved.filter(isGone)];
  const headOf = (lane: string, component: string): LaneHead | undefined => {
    const changed = lanes.find(({ of }) => of.lane === lane && of.component === component);
    return changed === undefined ? laneHeadIn(known.facts, environment, lane, component) : (changed.is ?? undefined);
  };
  const instead = decideInstead(environment, removed, { serves, headOf }, known);
  return instead.kind === 'decided'
    ? { kind: 'decided', value: planOf(environment, outcome, span, instead.value, known) }
    : instead;
}

function releaseNamed(id: ReleaseId, { facts }: Knowledge): Release[] {
  const found = facts.get('release', id);
  return found === undefined ? [] : [found];
}

/** What a rollback changes, where all is known of it. */
function planOf(
  environment: string,
  outcome: Outcome,
  { back, steps }: Span,
  insteadOf: Instead,
  known: Knowledge,
): RollbackPlan {
  const { served, changed, serves, left, lanes, tags, unmoved } = outcome;
  const now = servedIn(known.facts, environment);
  const removal = (of: TagPlace, since: number) => {
    const served = now.flatMap(({ component, digest }) => (component === of.component ? [digest] : []));
    return { stood: [...stoodUnder(of, since, { back, steps }), ...served], instead: insteadOf(of) };
  };
  const moves = tags.map((tag) => ({
    ...tag,
    decided: decideTag(tag.of, tag.is, tag.is === null ? removal(tag.of, back) : undefined, known),
  }));
  const staying = new Set<ContentId>(
    serves.flatMap(({ release }) => releaseNamed(release, known)).map(({ components }) => contentId(components)),
  );
  // Of those, and of what is served again since an earlier step: what came before it is found by its step.
  const moved = served.filter((each) => changed.includes(each) || each.is?.step !== each.was?.step);
  return {
    back,
    withdrawn: left
      .flatMap((id) => releaseNamed(id, known))
      .filter(({ components }) => !staying.has(contentId(components))),
    releases: [...new Set(changed.flatMap(({ is }) => (is === null ? [] : [is.release])))],
    serves,
    served: moved.map(({ component, is }) => ({ component, is })),
    changed: changed.map(({ component }) => component),
    lanes: lanes
      .filter(({ of: { lane, component }, is }) => !sameHead(is, laneHeadIn(known.facts, environment, lane, component)))
      .map(({ of, is }) => ({ ...of, is })),
    // Also where the digest is the same: what moves the tag next is compared with what it leads to.
    tags: moves
      .filter(
        ({ key, is, decided }) =>
          !sameTarget(is, targetOf(known.facts.get('tag', key))) || decided.some((each) => isNews(each, known.facts)),
      )
      .map(({ of, is, decided }) => ({ ...of, is, ...(is === null ? { instead: decided[0]?.instead } : {}) })),
    decisions: [
      ...moves.flatMap(({ decided }) => decided),
      ...unmoved.flatMap((of) => restoreTag(of, () => removal(of, 0), known)),
    ],
  };
}

/** Everything that a tag may stand at that it may not lead to any more. */
function stoodUnder(of: TagPlace, since: number, { back, steps }: Pick<Span, 'back' | 'steps'>): Digest[] {
  // Where tags cannot be removed, one may have been pointed to something that is withdrawn only now.
  return [...stoodSince(tagKey(of.repository, of.tag), since, steps), ...servedSince(of.component, back, steps)];
}

function outcomeOf({ environment, places }: Rollback, { since }: Target, span: Span, facts: Facts): Outcome {
  const now = servedIn(facts, environment);
  const served = servedAfter(span, now);
  const changed = served.filter(({ is, was }) => is?.digest !== was?.digest || is?.release !== was?.release);
  // What came beside in the same decision was never served here: it stays.
  const leaving = since.flatMap((each) => each.steps.filter((step) => step.served.length > 0));
  const untouched = now.filter(({ component }) => !served.some((each) => each.component === component));
  const serves = [...untouched, ...served.flatMap(({ is }) => (is === null ? [] : [is]))];
  const lanes = standing(span, (step) =>
    step.lanes.map(({ lane, component, is, was }) => ({
      key: `${lane} ${component}`,
      of: { lane, component },
      is,
      was,
    })),
  );
  const tags = standing(span, (step) =>
    step.tags.map(({ component, repository, tag, is, was }) => {
      return { key: tagKey(repository, tag), of: { component, repository, tag }, is, was };
    }),
  );
  // Killed runs may never have written the tags of the releases that are served then, nor those that rollbacks moved;
  // a rollback to what is served also writes the tags of releases that something newer replaced meanwhile.
  const tagged = new Set(tags.map(({ key }) => key));
  const earlier = since.length === 0 ? placedBefore(span.steps) : movedByRollbacks(span.back, span.steps);
  const unmoved = uniqueTags([
    ...serves.flatMap(({ component, repository, tags: names }) => names.map((tag) => ({ component, repository, tag }))),
    ...earlier.filter(({ component, repository }) => places.get(component) === repository),
  ]).filter(({ repository, tag }) => !tagged.has(tagKey(repository, tag)));
  const left = [...new Set(leaving.flatMap(({ of }) => (of === undefined ? [] : [of.release])))];
  return { served, changed, serves, left, lanes, tags, unmoved };
}

function refusedElsewhere({ environment, places }: Rollback, { serves, tags }: Outcome): Decision<never> | undefined {
  const elsewhere = [...serves, ...tags.map(({ of }) => of)].filter(
    ({ component, repository }) => places.get(component) !== repository,
  );
  return elsewhere.length === 0
    ? undefined
    : refusedBy('same-place', {
        code: 'repository-changed',
        what: 'this was served in another repository',
        object: [...new Set(elsewhere.map(({ repository }) => repository))],
        detail: `hod.yaml has ${environment} elsewhere now`,
        remedy: 'go back with the hod.yaml of that time (--config), or publish and promote a new release',
      });
}

/** What must be there for a rollback: what is served again, and what tags lead to. */
export function targetsOf({ served, tags }: RollbackPlan): { component: string; digest: Digest }[] {
  const all = [...served, ...tags].flatMap(({ component, is }) =>
    is === null ? [] : [{ component, digest: is.digest }],
  );
  return [...new Map(all.map((each) => [`${each.component} ${each.digest}`, each])).values()];
}

/** What a rollback writes into the ledger; nothing where it changes nothing. */
export function rolledBackAction(
  { environment, reason }: Omit<Rollback, 'places' | 'from'>,
  plan: RollbackPlan,
): Action[] {
  const { back, withdrawn, releases, served, lanes, tags } = plan;
  if (served.length + lanes.length + tags.length === 0) {
    return [];
  }
  const left = withdrawn.map(({ release, components }) => ({ release, content: contentId(components) }));
  return [
    {
      kind: 'rolled-back',
      environment,
      reason,
      back,
      withdrawn: left,
      releases: [...releases],
      served,
      lanes,
      tags,
    },
  ];
}

/** Whether a tag that is to go stands at something that the ledger does not know it to have led to. */
function isNews({ outcome, served, repository, tag }: TagDecision, facts: Facts): boolean {
  const fact = facts.get('tag', tagKey(repository, tag));
  return outcome === 'removed' && served !== undefined && fact !== undefined && !everUnder(fact).includes(served);
}

function sameHead(a: LaneHead | null, b: LaneHead | undefined): boolean {
  return a?.commit === b?.commit && a?.version === b?.version;
}

function sameTarget(a: TagTarget | null, b: TagTarget | undefined): boolean {
  return a?.digest === b?.digest && a?.commit === b?.commit && a?.version === b?.version;
}

function nothingBefore({ environment, to, from }: Rollback, { facts }: Knowledge): Decision<never> {
  const served = [...new Set(servedIn(facts, environment).map(describePosition))].join(', ') || 'nothing';
  if (to === undefined) {
    return refusedBy('served-before', {
      code: 'nothing-before',
      what: 'there is nothing to go back to',
      object: environment,
      detail: `it serves ${served}, and served nothing else before`,
      remedy: 'mend forward: publish a build that works, and promote it',
    });
  }
  return refusedBy('served-before', {
    code: 'not-served-before',
    what: 'this environment cannot go back to that release',
    object: `${environment} to ${describePosition(to)}`,
    detail: `it serves ${served}, and has not served ${describePosition(to)}, or was taken back from it`,
    remedy: `name one that it served (\`hod status\`), or leave --to out; ${from === null ? '`hod publish`' : `\`hod promote ${environment}\``} brings in what it has not served`,
  });
}
