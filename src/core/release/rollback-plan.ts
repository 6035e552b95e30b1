import type { RepositoryName } from '../oci/reference';
import type { Action } from '../ledger/entries';
import { laneHeadIn, servedIn } from '../ledger/environment';
import { unmetAmong } from './gates/gate';
import { moveRemedy, wasAdmitted } from './gates/way-in';
import {
  everUnder,
  laneKey,
  tagKey,
  targetOf,
  type RollbackChanges,
  type Fact,
  type LaneHead,
  type Release,
  type ServedComponent,
  type Step,
  type TagPlace,
  type TagTarget,
} from '../ledger/facts';
import { factNeed, refusedBy, type Decision, type Knowledge, type Need } from './knowledge';
import type { NamedChoice } from './promotion';
import { contentId, type ComponentDigest, type ContentId, type ReleaseId } from '../ledger/release';
import { servedSince, stoodSince, type ChangedComponent, type Steps } from './rollback-steps';
import type { ReleaseSet } from '../ledger/release-set';
import { decideTag, restoreTag, type Removal } from './rollback-tags';
import { decideInstead, type Instead } from './stand-in';
import type { TagDecision } from './tag-decisions';

/** Where an environment is to go back to: a release that it served, or what it served before. */
export type BackTo = NamedChoice | undefined;

/** A rollback that was asked for. */
export interface Rollback {
  readonly environment: string;
  readonly to: BackTo;
  readonly reason: string;
  /** The line of versions or the branch that is rolled back alone; undefined where the whole environment is. */
  readonly lane: string | undefined;
  /** The environments that its releases pass through before, the nearest first; none where builds are published into it. */
  readonly before: readonly string[];
  /** Where hod.yaml has each component of the environment. */
  readonly places: ReadonlyMap<string, RepositoryName>;
}

/** What a rollback changes. */
export interface RollbackPlan extends RollbackChanges {
  /** The environment is as it was after this step; undefined where one lane is rolled back. */
  readonly back: number | undefined;
  /** The lane that is rolled back alone, and the releases that it leaves behind. */
  readonly left: Step['left'];
  /** The releases that may not come back but on purpose, newest first. */
  readonly withdrawn: readonly Release[];
  /** The releases that are served again. */
  readonly releases: readonly ReleaseId[];
  /** Everything that the environment serves then; of one lane, what is its newest then. */
  readonly serves: readonly ServedComponent[];
  /** The components of which that is something else than before. */
  readonly changed: readonly string[];
  readonly decisions: readonly TagDecision[];
  /** The withdrawn release of each component whose lane ends: the run proves with it that it may write there. */
  readonly leaving: readonly ComponentDigest[];
}

/** What a rollback leads to, before it is known what stands in the registries. */
export interface Outcome {
  /** Back to this step, or one lane alone. */
  readonly to: Pick<RollbackPlan, 'back' | 'left'>;
  /** Since this step, tags may have pointed to a release that is withdrawn now. */
  readonly since: number;
  /** What became of each component that something happened to since. */
  readonly served: readonly ChangedComponent[];
  readonly changed: readonly ChangedComponent[];
  /** What is served then; of one lane, what is its newest then. */
  readonly serves: readonly ServedComponent[];
  /** The releases that are left behind. */
  readonly left: readonly ReleaseId[];
  readonly lanes: readonly { readonly of: { lane: string; component: string }; readonly is: LaneHead | null }[];
  readonly tags: readonly { readonly key: string; readonly of: TagPlace; readonly is: TagTarget | null }[];
  /** Tags that stay where they are, and may stand elsewhere. */
  readonly unmoved: readonly TagPlace[];
}

/**
 * Plans a rollback whose outcome is known: what is written into the ledger, and what becomes of the tags.
 *
 * @param steps The steps of the environment, since that of the outcome at least.
 */
export function planRollback(
  rollback: Rollback,
  outcome: Outcome,
  steps: Steps,
  known: Knowledge,
): Decision<RollbackPlan> {
  const { serves, left, lanes, tags, unmoved } = outcome;
  const refused = refusedElsewhere(rollback, outcome);
  if (refused !== undefined) {
    return refused;
  }
  const { environment, before, places } = rollback;
  const now = servedIn(known.facts, environment);
  const stays = outcome.to.left === undefined ? serves : [...now, ...serves];
  const unknown = known.missing([
    ...[...left, ...stays.map(({ release }) => release)].map((release) => factNeed('release', release)),
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
      wasAdmitted(each, release, { environment, before, repositoryOf: (component) => places.get(component) }),
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
  const served = outcome.to.left === undefined ? serves : now;
  const instead = decideInstead(environment, removed, { serves: served, headOf }, known);
  return instead.kind === 'decided'
    ? { kind: 'decided', value: planOf(environment, { ...outcome, stays }, steps, instead.value, known) }
    : instead;
}

function releaseNamed(id: ReleaseId, { facts }: Knowledge): Release[] {
  const found = facts.get('release', id);
  return found === undefined ? [] : [found];
}

/** What a rollback changes, where all is known of it. */
function planOf(
  environment: string,
  outcome: Outcome & { readonly stays: readonly ServedComponent[] },
  steps: Steps,
  insteadOf: Instead,
  known: Knowledge,
): RollbackPlan {
  const { to, served, changed, serves, stays, left, lanes } = outcome;
  const staying = new Set<ContentId>(
    stays.flatMap(({ release }) => releaseNamed(release, known)).map(({ components }) => contentId(components)),
  );
  // Of those, and of what is served again since an earlier step: what came before it is found by its step.
  const moved = served.filter((each) => changed.includes(each) || each.is?.step !== each.was?.step);
  return {
    ...to,
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
    ...planTags(environment, outcome, steps, insteadOf, known),
    leaving: changed.flatMap(({ component, is, was }) =>
      is === null && was !== undefined ? [{ component, digest: was.digest }] : [],
    ),
  };
}

/** Answers what a tag that is removed may not lead to, and what it leads to instead; `from`: the step since which it may have. */
function removalsIn(
  environment: string,
  { since, left }: Pick<Outcome, 'since' | 'left'>,
  steps: Steps,
  { insteadOf, known }: { readonly insteadOf: Instead; readonly known: Knowledge },
): (of: TagPlace, from: number) => Removal {
  const now = servedIn(known.facts, environment);
  // Where tags cannot be removed, one may have been pointed to something that is withdrawn only now.
  const behind = left.flatMap((id) => releaseNamed(id, known)).flatMap(({ components }) => components);
  return (of, from) => {
    const stood = stoodSince(tagKey(of.repository, of.tag), from, steps);
    const withdrawn = [...now, ...behind].filter(({ component }) => component === of.component);
    return {
      stood: [...stood, ...servedSince(of.component, since, steps), ...withdrawn.map(({ digest }) => digest)],
      instead: insteadOf(of),
    };
  };
}

/** Plans what becomes of tags, and what the ledger is told of it. */
function planTags(
  environment: string,
  { since, left, tags, unmoved }: Outcome,
  steps: Steps,
  insteadOf: Instead,
  known: Knowledge,
): Pick<RollbackPlan, 'tags' | 'decisions'> {
  const removal = removalsIn(environment, { since, left }, steps, { insteadOf, known });
  const factOf = ({ repository, tag }: TagPlace) => known.facts.get('tag', tagKey(repository, tag));
  const moves = tags.map(({ of, is }): PlannedTag => {
    const gone = is === null ? removal(of, since) : undefined;
    return { of, is, fact: factOf(of), gone, decided: decideTag(of, is, gone, known) };
  });
  const others = unmoved.map((of): PlannedTag => {
    const fact = factOf(of);
    const gone = fact?.gone === true ? removal(of, 0) : undefined;
    return { of, is: null, fact, gone, decided: restoreTag(of, gone, known) };
  });
  return {
    tags: [
      // Also where the digest is the same: what moves the tag next is compared with what it leads to.
      ...moves.filter(
        (each) => !sameTarget(each.is, targetOf(each.fact)) || isStale(each) || isNews(each) || pointsElsewhere(each),
      ),
      ...others.filter(pointsElsewhere),
    ].map(({ of, is, gone }) => ({ ...of, is, ...(gone === undefined ? {} : { instead: gone.instead }) })),
    decisions: [...moves, ...others].flatMap(({ decided }) => decided),
  };
}

/** A tag, what the ledger knows of it, and what becomes of it. */
interface PlannedTag {
  readonly of: TagPlace;
  readonly is: TagTarget | null;
  readonly fact: Fact<'tag'> | undefined;
  /** Of a tag that is removed. */
  readonly gone: Removal | undefined;
  readonly decided: readonly TagDecision[];
}

function refusedElsewhere(
  { environment, before, places }: Rollback,
  { serves, tags }: Outcome,
): Decision<never> | undefined {
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
        remedy: `use the hod.yaml of that time (--config); ${moveRemedy(environment, before[0] ?? null)}`,
      });
}

/** What must be there for a rollback: what is served again, what is the newest of a lane again, and what tags lead to. */
export function targetsOf({ served, lanes, tags, left }: RollbackPlan): ComponentDigest[] {
  const heads = lanes.filter(({ lane }) => lane === left?.lane);
  const all = [...served, ...heads, ...tags].flatMap(({ component, is }) =>
    is === null ? [] : [{ component, digest: is.digest }],
  );
  return [...new Map(all.map((each) => [`${each.component} ${each.digest}`, each])).values()];
}

/** What a rollback writes into the ledger; nothing where it changes nothing. */
export function rolledBackAction(
  { environment, reason, set }: Pick<Rollback, 'environment' | 'reason'> & { readonly set?: ReleaseSet | undefined },
  plan: RollbackPlan,
): Action[] {
  const { back, left, withdrawn, releases, served, lanes, tags } = plan;
  if (served.length + lanes.length + tags.length === 0) {
    return [];
  }
  return [
    {
      kind: 'rolled-back',
      environment,
      reason,
      ...(left === undefined ? { back } : { left }),
      withdrawn: withdrawn.map(({ release, components }) => ({ release, content: contentId(components) })),
      releases: [...releases],
      set,
      served,
      lanes,
      tags,
    },
  ];
}

/** Whether a removed tag is to point, where the registry removes no tags, to another digest than so far. */
function isOther({ fact, gone }: PlannedTag): boolean {
  return fact?.gone === true && gone !== undefined && fact.instead !== gone.instead;
}

/** Whether this run points a removed tag to another digest: that is on record, so that nobody takes it for something foreign. */
function pointsElsewhere(tag: PlannedTag): boolean {
  return tag.decided.length > 0 && isOther(tag);
}

/** Whether the release that a removed tag was to point to is withdrawn now. */
function isStale(tag: PlannedTag): boolean {
  const { fact, gone } = tag;
  return fact?.instead !== undefined && isOther(tag) && gone?.stood.includes(fact.instead) === true;
}

/** Whether a tag that is to be removed points to a digest that the ledger does not know it to have had. */
function isNews({ fact, decided }: PlannedTag): boolean {
  return decided.some(
    ({ outcome, served }) =>
      outcome === 'removed' && served !== undefined && fact !== undefined && !everUnder(fact).includes(served),
  );
}

function sameHead(a: LaneHead | null, b: LaneHead | undefined): boolean {
  return a?.release === b?.release;
}

function sameTarget(a: TagTarget | null, b: TagTarget | undefined): boolean {
  return a?.digest === b?.digest && a?.release === b?.release;
}
