import type { Digest } from '../oci/digest';
import type { RepositoryName } from '../oci/reference';
import { describePosition } from '../tags/ordering';
import type { Action } from '../ledger/entries';
import { laneHeadIn, servedIn } from '../ledger/environment';
import { unmetAmong } from './gates/gate';
import { wasAdmitted } from './gates/way-in';
import {
  laneKey,
  stepKey,
  tagKey,
  targetOf,
  type ChangesBack,
  type Facts,
  type LaneHead,
  type Release,
  type ServedImage,
  type Step,
  type TagTarget,
} from '../ledger/facts';
import { factNeed, refusedBy, type Decision, type Knowledge, type Need } from './knowledge';
import type { NamedChoice } from './promotion';
import { contentId, type ContentId, type ReleaseId } from '../ledger/release';
import { astrayReason, type TagDecision } from './tag-decisions';

/** Where an environment is to go back to: a release that it served, or what it served before. */
export type BackTo = NamedChoice | undefined;

/** A rollback that was asked for. */
export interface Rollback {
  readonly environment: string;
  readonly to: BackTo;
  readonly reason: string;
  /** The environment that its releases come from; null where builds are published into it. */
  readonly from: string | null;
  /** Where hod.yaml has each image of the environment. */
  readonly places: ReadonlyMap<string, RepositoryName>;
}

/** What a rollback changes. */
export interface WayBack extends ChangesBack {
  /** The environment is as it was after this step. */
  readonly back: number;
  /** The releases that may not come back but on purpose, newest first. */
  readonly withdrawn: readonly Release[];
  /** The releases that are served again. */
  readonly releases: readonly ReleaseId[];
  /** Everything that the environment serves then. */
  readonly serves: readonly ServedImage[];
  /** The images of which it serves something else then. */
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
export function decideWayBack(rollback: Rollback, known: Knowledge): Decision<WayBack> {
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
      return changesSince(rollback, found, last, steps, known);
    }
    if (first === 1) {
      return nothingBefore(rollback, known);
    }
  }
}

type Steps = ReadonlyMap<number, Step>;

function stepOf(facts: Facts, environment: string, number: number): Step {
  const step = facts.get('step', stepKey(environment, number));
  if (step === undefined) {
    throw new Error(`the step ${number} of ${environment} is not there`);
  }
  return step;
}

/** What took over in one decision, and is served since or was until the next did. */
interface TakeOver {
  /** Its last step. */
  readonly last: number;
  readonly steps: readonly Step[];
}

/** Where to go back to, and what took over since. */
interface Target {
  readonly back: number;
  readonly since: readonly TakeOver[];
}

/** Every take-over that was not taken back, the newest first, as far as the steps are known. */
function* takeOvers(last: number, steps: Steps): Generator<TakeOver> {
  let at = last;
  let later: Step[] = [];
  let end = 0;
  for (let step = steps.get(at); step !== undefined; step = steps.get(at)) {
    if (step.back !== undefined) {
      at = step.back;
      continue;
    }
    if (step.served.length > 0 || later.length > 0) {
      end = later.length === 0 ? at : end;
      later = [...later, step];
      if (!step.together) {
        yield { last: end, steps: later };
        later = [];
      }
    }
    at -= 1;
  }
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
          servedAfter(each.last, last, steps, served).some(({ is, was }) => is?.digest !== was?.digest)
        : each.steps.some(({ of }) => ('version' in to ? of?.version === to.version : of?.commit === to.commit));
    if (isMeant) {
      return { back: each.last, since };
    }
    since.push(each);
  }
  return undefined;
}

/** Those images that something happened to since a step: what is served of them then, and now. */
function servedAfter(
  back: number,
  last: number,
  steps: Steps,
  served: readonly ServedImage[],
): { image: string; is: ServedImage | null; was: ServedImage | undefined }[] {
  const then = new Map<string, ServedImage | null>();
  for (let number = last; number > back; number -= 1) {
    steps.get(number)?.served.forEach(({ image, was }) => then.set(image, was));
  }
  return [...then].map(([image, is]) => ({ image, is, was: served.find((each) => each.image === image) }));
}

function changesSince(
  { environment, from, places }: Rollback,
  { back, since }: Target,
  last: number,
  steps: Steps,
  known: Knowledge,
): Decision<WayBack> {
  const served = servedAfter(back, last, steps, servedIn(known.facts, environment));
  const changed = served.filter(({ is, was }) => is?.digest !== was?.digest || is?.release !== was?.release);
  // Of those, and of what is served again since an earlier step: what came before it is found by its step.
  const moved = served.filter((each) => changed.includes(each) || each.is?.step !== each.was?.step);
  // What came beside in the same decision was never served here: it stays.
  const leaving = since.flatMap((each) => each.steps.filter((step) => step.served.length > 0));
  const left = [...new Set(leaving.flatMap(({ of }) => (of === undefined ? [] : [of.release])))];
  const untouched = servedIn(known.facts, environment).filter(
    ({ image }) => !served.some((each) => each.image === image),
  );
  const serves = [...untouched, ...served.flatMap(({ is }) => (is === null ? [] : [is]))];
  const releases = [...new Set(changed.flatMap(({ is }) => (is === null ? [] : [is.release])))];
  const lanes = standing(back, last, steps, (step) =>
    step.lanes.map(({ lane, image, is, was }) => ({ key: `${lane} ${image}`, of: { lane, image }, is, was })),
  );
  const tags = standing(back, last, steps, (step) =>
    step.tags.map(({ image, repository, tag, is, was }) => {
      return { key: tagKey(repository, tag), of: { image, repository, tag }, is, was };
    }),
  );
  // Killed runs may never have written the tags of the releases that are served then, nor those that rollbacks moved;
  // a rollback to what is served also writes the tags of releases that something newer replaced meanwhile.
  const tagged = new Set(tags.map(({ key }) => key));
  const unmoved = uniqueTags([
    ...serves.flatMap(({ image, repository, tags: names }) => names.map((tag) => ({ image, repository, tag }))),
    ...(since.length === 0 ? placedBefore(steps) : movedByRollbacks(back, steps)).filter(
      ({ image, repository }) => places.get(image) === repository,
    ),
  ]).filter(({ repository, tag }) => !tagged.has(tagKey(repository, tag)));
  const elsewhere = [...serves, ...tags.map(({ of }) => of)].filter(
    ({ image, repository }) => places.get(image) !== repository,
  );
  if (elsewhere.length > 0) {
    return refusedBy('same-place', {
      code: 'repository-changed',
      what: 'this was served in another repository',
      object: [...new Set(elsewhere.map(({ repository }) => repository))],
      detail: `hod.yaml has ${environment} elsewhere now`,
      remedy: 'go back with the hod.yaml of that time (--config), or publish and promote a new release',
    });
  }
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
  const releaseOf = (id: ReleaseId): Release[] => {
    const found = known.facts.get('release', id);
    return found === undefined ? [] : [found];
  };
  const repositoryOf = (image: string) => places.get(image);
  const admissions = serves.flatMap((each) =>
    releaseOf(each.release).map((release) => wasAdmitted(each, release, { environment, from, repositoryOf })),
  );
  if (unmetAmong(admissions).length > 0) {
    return { kind: 'refused', gates: admissions };
  }
  const staying = new Set<ContentId>(
    serves.flatMap(({ release }) => releaseOf(release)).map(({ images }) => contentId(images)),
  );
  const decisions = [
    ...tags.flatMap(({ key, of, is }) => decideTag(of, is, stoodSince(key, back, steps), known)),
    ...unmoved.flatMap((of) => restoreTag(of, steps, known)),
  ];
  return {
    kind: 'decided',
    value: {
      back,
      withdrawn: left.flatMap(releaseOf).filter(({ images }) => !staying.has(contentId(images))),
      releases,
      serves,
      served: moved.map(({ image, is }) => ({ image, is })),
      changed: changed.map(({ image }) => image),
      lanes: lanes
        .filter(({ of: { lane, image }, is }) => !sameHead(is, laneHeadIn(known.facts, environment, lane, image)))
        .map(({ of, is }) => ({ ...of, is })),
      // Also where the digest is the same: what moves the tag next is compared with what it leads to.
      tags: tags
        .filter(({ key, is }) => !sameTarget(is, targetOf(known.facts.get('tag', key))))
        .map(({ of, is }) => ({ ...of, is })),
      decisions,
    },
  };
}

type TagPlace = Pick<TagDecision, 'image' | 'repository' | 'tag'>;

/**
 * Tags that rollbacks moved or removed before a step. A rollback that was killed may have left them as they were, and
 * where something came since it is not found again by its reason.
 */
function movedByRollbacks(back: number, steps: Steps): TagPlace[] {
  return [...steps]
    .filter(([number, step]) => number <= back && step.back !== undefined)
    .flatMap(([, { tags }]) => tags.map(({ image, repository, tag }) => ({ image, repository, tag })));
}

/** Every tag that these steps moved, and the tags of every image that they replaced. */
function placedBefore(steps: Steps): TagPlace[] {
  return [...steps.values()].flatMap(({ tags, served }) => [
    ...tags.map(({ image, repository, tag }) => ({ image, repository, tag })),
    ...served.flatMap(({ image, was }) =>
      was === null ? [] : was.tags.map((tag) => ({ image, repository: was.repository, tag })),
    ),
  ]);
}

function uniqueTags(places: readonly TagPlace[]): TagPlace[] {
  return [...new Map(places.map((place) => [tagKey(place.repository, place.tag), place])).values()];
}

/** What must be there for a rollback: what is served again, and what tags lead to. */
export function targetsOf({ served, tags }: WayBack): { image: string; digest: Digest }[] {
  const all = [...served, ...tags].flatMap(({ image, is }) => (is === null ? [] : [{ image, digest: is.digest }]));
  return [...new Map(all.map((each) => [`${each.image} ${each.digest}`, each])).values()];
}

/** What a rollback writes into the ledger; nothing where it changes nothing. */
export function rolledBackAction(
  { environment, reason }: Omit<Rollback, 'places' | 'from'>,
  wayBack: WayBack,
): Action[] {
  const { back, withdrawn, releases, served, lanes, tags } = wayBack;
  if (served.length + lanes.length + tags.length === 0) {
    return [];
  }
  const left = withdrawn.map(({ release, images }) => ({ release, content: contentId(images) }));
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

/** What stands somewhere after a rollback: what stood there then, or what came beside since. */
function standing<O, V>(
  back: number,
  last: number,
  steps: Steps,
  changes: (step: Step) => { key: string; of: O; is: V | null; was: V | null }[],
): { key: string; of: O; is: V | null }[] {
  const now = new Map<string, { key: string; of: O; is: V | null }>();
  for (let number = back + 1; number <= last; number += 1) {
    const step = steps.get(number);
    const stays = step?.back === undefined && step?.served.length === 0;
    for (const { key, of, is, was } of step === undefined ? [] : changes(step)) {
      if (stays) {
        now.set(key, { key, of, is });
      } else if (!now.has(key)) {
        now.set(key, { key, of, is: was });
      }
    }
  }
  return [...now.values()];
}

function sameHead(a: LaneHead | null, b: LaneHead | undefined): boolean {
  return a?.commit === b?.commit && a?.version === b?.version;
}

function sameTarget(a: TagTarget | null, b: TagTarget | undefined): boolean {
  return a?.digest === b?.digest && a?.commit === b?.commit && a?.version === b?.version;
}

/** Everything that a tag has led to since a step. */
function stoodSince(key: string, back: number, steps: Steps): Digest[] {
  return [...steps]
    .filter(([number]) => number > back)
    .flatMap(([, step]) => step.tags)
    .filter(({ repository, tag }) => tagKey(repository, tag) === key)
    .flatMap(({ is, was }) => [is, was])
    .flatMap((target) => (target === null ? [] : [target.digest]));
}

/** @param stood What the tag has led to since then: runs that were ended may have left any of it there. */
function decideTag(of: TagPlace, is: TagTarget | null, stood: readonly Digest[], known: Knowledge): TagDecision[] {
  const target = known.facts.get('tag', tagKey(of.repository, of.tag));
  const recorded = targetOf(target);
  const served = known.servedUnder(of.repository, of.tag);
  if (is === null) {
    // It may be gone by the ledger, and stand there still: a run was killed before it removed it.
    const stands = target !== undefined && (recorded !== undefined || (served !== undefined && stood.includes(served)));
    const reason = 'only what is withdrawn had it';
    return stands
      ? [{ ...of, kind: 'moving', digest: target.digest, outcome: 'removed', reason, served, never: stood }]
      : [];
  }
  const outcome = served === is.digest ? 'unchanged' : recorded?.digest === is.digest ? 'restored' : 'moved';
  const was = recorded === undefined ? 'nothing' : describePosition(recorded);
  const reason = outcome === 'unchanged' ? 'it already points here' : `back to ${describePosition(is)}, was ${was}`;
  return [{ ...of, kind: 'moving', digest: is.digest, outcome, reason, served }];
}

/** A tag that a rollback does not move, where it stands elsewhere than the ledger says. */
function restoreTag(of: TagPlace, steps: Steps, known: Knowledge): TagDecision[] {
  const key = tagKey(of.repository, of.tag);
  const target = known.facts.get('tag', key);
  if (target?.gone === true) {
    return decideTag(of, null, stoodSince(key, 0, steps), known);
  }
  const served = known.servedUnder(of.repository, of.tag);
  if (target === undefined || target.digest === served) {
    return [];
  }
  const { kind, digest } = target;
  return [{ ...of, kind, digest, outcome: 'restored', reason: astrayReason(served, digest), served, recorded: digest }];
}

function nothingBefore({ environment, to }: Rollback, { facts }: Knowledge): Decision<never> {
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
    remedy: `name one that it served (\`hod status\`), or leave --to out; \`hod promote ${environment}\` brings in what it has not served`,
  });
}
