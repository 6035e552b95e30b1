import { shortDigest, type Digest } from '../oci/digest';
import type { RepositoryName } from '../oci/reference';
import type { Action } from '../ledger/entries';
import type { KnownReferrers } from '../ledger/entries/known-referrers';
import { laneHeadIn, laneHeadsIn, servedIn } from '../ledger/environment';
import {
  everUnder,
  laneKey,
  tagKey,
  targetOf,
  type Fact,
  type Facts,
  type Release,
  type Step,
  type TagPlace,
  type TagTarget,
} from '../ledger/facts';
import type { ComponentDigest, ReleaseId } from '../ledger/release';
import type { TagKind } from '../tags/rules';
import { factNeed, refusedBy, type Decision, type Knowledge, type Need } from './knowledge';
import { stepsFrom, takeOvers, type Steps } from './rollback-steps';
import { tagsIn } from './rollback-tags';
import { decideInstead } from './stand-in';

/** So many releases that an environment served before come along with what it serves: a rollback may need them. */
const rollbacksKept = 10;

/** An environment whose components may be in other repositories from now on. */
export interface Move {
  readonly environment: string;
  /** The repository of a component by what hod.yaml says now. */
  readonly placeOf: (component: string) => RepositoryName;
  readonly reason: string;
}

/** Content that an environment has, and the releases that it is of. */
export interface MovedContent extends ComponentDigest {
  readonly releases: readonly ReleaseId[];
  /** The environment serves it, or has it as the newest of a line that it serves; else a rollback may need it, or another tag. */
  readonly isServed: boolean;
}

/** A tag in the new place. */
interface MovedTag extends TagPlace {
  readonly kind: TagKind;
  readonly target: TagTarget;
  readonly served: Digest | undefined;
  /** The ledger has it there already. */
  readonly isRecorded: boolean;
}

/** A tag that is to go, and where it is pointed if the registry removes no tags. */
interface GoneTag extends TagPlace {
  readonly instead: Digest | undefined;
  /** The ledger says so already. */
  readonly isRecorded: boolean;
}

/** What moves with an environment. */
export interface MovePlan {
  /** The components whose repository changes now. */
  readonly places: readonly {
    readonly component: string;
    readonly from: RepositoryName;
    readonly repository: RepositoryName;
  }[];
  /** Where each component was before, the latest first. */
  readonly former: ReadonlyMap<string, readonly RepositoryName[]>;
  readonly lanes: readonly string[];
  readonly content: readonly MovedContent[];
  readonly tags: readonly MovedTag[];
  /** Moving tags that the new place had once, and that lead to what the environment has under them no more. */
  readonly gone: readonly GoneTag[];
  /** The releases that are named. */
  readonly releases: ReadonlyMap<ReleaseId, Release>;
}

/**
 * Plans what comes along where an environment is in other repositories than so far: what it serves, its lines and branches, what
 * rollbacks may need, and the tags of all that. Refused where something else stands in the new place under a tag.
 */
export function planMove(move: Move, known: Knowledge): Decision<MovePlan> {
  const { environment, placeOf } = move;
  const unknown = known.missing([factNeed('environment', environment)]);
  if (unknown !== undefined) {
    return unknown;
  }
  const fact = known.facts.get('environment', environment);
  const last = fact?.steps ?? 0;
  const read = stepsFrom(environment, { first: 1, last }, known);
  if (read.kind !== 'decided') {
    return read;
  }
  const steps = [...read.value.values()];
  const now = placesIn(steps);
  const places = [...now]
    .map(([component, from]) => ({ component, from, repository: placeOf(component) }))
    .filter(({ from, repository }) => from !== repository);
  const moving = new Set([...places, ...(fact?.places ?? [])].map(({ component }) => component));
  const lanes = [...new Set(steps.flatMap((step) => step.lanes.map(({ lane }) => lane)))];
  const former = new Map(
    [...moving].map((component) => [
      component,
      [
        ...places.filter((each) => each.component === component).map(({ from }) => from),
        ...(fact?.places ?? []).filter((each) => each.component === component).flatMap((each) => each.former),
      ].filter((each) => each !== placeOf(component)),
    ]),
  );
  const kept = keptReleases(last, read.value);
  const here = tagsIn(read.value).filter(({ component }) => moving.has(component));
  const missing = known.missing([
    ...kept.map((release) => factNeed('release', release)),
    ...lanes.map((lane) => factNeed('lane', laneKey(environment, lane))),
    ...here.flatMap(({ component, repository, tag }): Need[] => [
      ...[repository, placeOf(component), ...(former.get(component) ?? [])].map((each) =>
        factNeed('tag', tagKey(each, tag)),
      ),
      { kind: 'served', repository: placeOf(component), tag },
    ]),
  ]);
  if (missing !== undefined) {
    return missing;
  }
  return planKnown(move, { places, former, moving, lanes, kept, here, steps }, known);
}

/** Where the steps of an environment have each component. */
function placesIn(steps: readonly Step[]): Map<string, RepositoryName> {
  const all = steps.flatMap(({ served, lanes, tags, fixed }) => [
    ...served.flatMap(({ was }) => was ?? []),
    ...lanes.flatMap(({ is, was }) => [is, was].flatMap((each) => each ?? [])),
    ...tags,
    ...fixed,
  ]);
  return new Map(all.map(({ component, repository }) => [component, repository]));
}

/** The releases that took over last, and the last heads of each lane: as many as rollbacks may need. */
function keptReleases(last: number, steps: Steps): ReleaseId[] {
  const kept: ReleaseId[] = [];
  let count = 0;
  for (const takeOver of takeOvers(last, steps)) {
    kept.push(...takeOver.steps.flatMap(({ of }) => (of === undefined ? [] : [of.release])));
    count += 1;
    if (count > rollbacksKept) {
      break;
    }
  }
  const heads = new Map<string, Set<ReleaseId>>();
  for (const { lane, is } of [...steps.values()].flatMap(({ lanes }) => lanes)) {
    if (is !== null) {
      heads.set(lane, (heads.get(lane) ?? new Set<ReleaseId>()).add(is.release));
    }
  }
  return [...new Set([...kept, ...[...heads.values()].flatMap((all) => [...all].slice(-rollbacksKept))])];
}

/** What was found of an environment that moves. */
interface Found extends Pick<MovePlan, 'places' | 'former' | 'lanes'> {
  readonly moving: ReadonlySet<string>;
  readonly kept: readonly ReleaseId[];
  /** Its tags, where the ledger has them now. */
  readonly here: readonly TagPlace[];
  readonly steps: readonly Step[];
}

function planKnown({ environment, placeOf }: Move, found: Found, known: Knowledge): Decision<MovePlan> {
  const { facts } = known;
  const { places, former, moving, lanes, kept, here } = found;
  const targets = here.flatMap((place): StandingTag[] => {
    // What did not come along when it moved before is known where it was then.
    const all = [place.repository, ...(former.get(place.component) ?? [])];
    const [fact] = all.flatMap((repository) => facts.get('tag', tagKey(repository, place.tag)) ?? []);
    const target = targetOf(fact);
    return fact === undefined || target === undefined ? [] : [{ ...place, kind: fact.kind, target }];
  });
  const content = contentOf(environment, { moving, lanes, kept, targets }, facts);
  const ids = [...new Set(content.flatMap(({ releases }) => releases))];
  const unknown = known.missing(ids.map((id) => factNeed('release', id)));
  if (unknown !== undefined) {
    return unknown;
  }
  const tags = tagsOf(targets, content, placeOf, known);
  const strange = tags.filter((tag) => isStrange(tag, found));
  if (strange.length > 0) {
    return refusePlace(environment, strange);
  }
  const releases = new Map(
    ids
      .map((id) => [id, facts.get('release', id)] as const)
      .filter((each): each is [ReleaseId, Release] => each[1] !== undefined),
  );
  const gone = goneFrom(
    environment,
    here.map(({ component, tag }) => ({ component, repository: placeOf(component), tag })),
    tags,
    known,
  );
  if (gone.kind !== 'decided') {
    return gone;
  }
  return { kind: 'decided', value: { places, former, lanes, content, tags, gone: gone.value, releases } };
}

/** A tag of the environment, and what it leads to by the ledger. */
type StandingTag = TagPlace & Pick<MovedTag, 'kind' | 'target'>;

/** The tags that come along, in the new place: moving ones, and the fixed ones of the content that comes along. */
function tagsOf(
  targets: readonly StandingTag[],
  content: readonly MovedContent[],
  placeOf: Move['placeOf'],
  known: Knowledge,
): FoundTag[] {
  const isAlong = (tag: StandingTag): boolean => tag.kind === 'moving' || content.some((each) => isOf(each, tag));
  return targets.filter(isAlong).map(({ component, tag, kind, target }) => {
    const repository = placeOf(component);
    const there = known.facts.get('tag', tagKey(repository, tag));
    const isRecorded = there?.gone !== true && there?.digest === target.digest && there.release === target.release;
    return {
      ...{ component, repository, tag, kind, target, isRecorded, there },
      served: known.servedUnder(repository, tag),
    };
  });
}

/** The moving tags among some that the ledger has in the new place since earlier, and that do not come along. */
function goneFrom(
  environment: string,
  places: readonly TagPlace[],
  along: readonly MovedTag[],
  known: Knowledge,
): Decision<readonly GoneTag[]> {
  const { facts } = known;
  const factOf = ({ repository, tag }: TagPlace) => facts.get('tag', tagKey(repository, tag));
  const leaving = places.filter((place) => {
    const stays = along.some((each) => each.component === place.component && each.tag === place.tag);
    return factOf(place)?.kind === 'moving' && !stays;
  });
  const headOf = (lane: string, component: string) => laneHeadIn(facts, environment, lane, component);
  const insteadOf = decideInstead(environment, leaving, { serves: servedIn(facts, environment), headOf }, known);
  return insteadOf.kind !== 'decided'
    ? insteadOf
    : {
        kind: 'decided',
        value: leaving.map((place) => {
          const instead = insteadOf.value(place);
          const fact = factOf(place);
          return { ...place, instead, isRecorded: fact?.gone === true && fact.instead === instead };
        }),
      };
}

/** A tag, and what the ledger knows of it in the new place. */
interface FoundTag extends MovedTag {
  readonly there: Fact<'tag'> | undefined;
}

/**
 * Whether something else stands in the new place under a tag: under a fixed tag that the ledger did not set there, anything but its
 * digest; under a moving one, a digest that the environment never had.
 */
function isStrange({ served, target, kind, there }: FoundTag, found: Found): boolean {
  if (kind === 'fixed') {
    const stands = there?.digest ?? served;
    return stands !== undefined && stands !== target.digest;
  }
  const expected = [target.digest, ...(there === undefined ? [] : everUnder(there))];
  return served !== undefined && !expected.includes(served) && !isOwn(served, found);
}

function refusePlace(environment: string, strange: readonly FoundTag[]): Decision<never> {
  return refusedBy('new-place', {
    code: 'place-taken',
    what: 'the new repository has other tags',
    object: strange.map(({ repository, tag }) => tagKey(repository, tag)),
    detail: strange.map(({ tag, served, there, target }) => {
      const stands = shortDigest(served ?? there?.digest ?? target.digest);
      return `${tag} points to ${stands} there, and to ${shortDigest(target.digest)} in ${environment}`;
    }),
    remedy: 'remove these tags from the new repository, or name another repository in hod.yaml',
  });
}

/** Whether a digest is one that a tag of the environment led to: then somebody copied it here, or it was here before. */
function isOwn(digest: Digest, { steps }: Found): boolean {
  return steps.some(({ tags }) => tags.some(({ is, was }) => is?.digest === digest || was?.digest === digest));
}

/** The content that comes along: of what is served, of every lane, under moving tags; and of the releases that are kept. */
function contentOf(
  environment: string,
  {
    moving,
    lanes,
    kept,
    targets,
  }: Pick<Found, 'moving' | 'lanes' | 'kept'> & {
    readonly targets: readonly StandingTag[];
  },
  facts: Facts,
): MovedContent[] {
  const isServedLane = (lane: string): boolean => facts.get('environment', environment)?.lanes.includes(lane) === true;
  const of =
    (isServed: boolean) =>
    ({ component, digest, release }: ComponentDigest & { readonly release: ReleaseId }) => ({
      component,
      digest,
      release,
      isServed,
    });
  const served = [
    ...servedIn(facts, environment).map(of(true)),
    ...lanes.flatMap((lane) => laneHeadsIn(facts, environment, lane).map(of(isServedLane(lane)))),
    ...targets
      // An image of an index comes along with the index.
      .filter(({ kind, target }) => kind === 'moving' && target.platform === undefined)
      .map(({ component, target }) => of(false)({ component, ...target })),
  ];
  const before = kept.flatMap((id) =>
    (facts.get('release', id)?.components ?? []).map(({ component, digest }) => {
      return { component, digest, release: id, isServed: false };
    }),
  );
  const all = new Map<string, MovedContent>();
  for (const { component, digest, release, isServed } of [...served, ...before]) {
    const key = contentKey({ component, digest });
    const known = all.get(key) ?? { component, digest, releases: [], isServed };
    if (moving.has(component)) {
      all.set(key, {
        ...known,
        isServed: known.isServed || isServed,
        releases: [...new Set([...known.releases, release])],
      });
    }
  }
  return [...all.values()];
}

/** The tags of a plan whose content is in the new place, or is served whatever is there. */
export function tagsAlong({ content, tags }: MovePlan, present: ReadonlySet<string>): MovedTag[] {
  return tags.filter((tag) => {
    const all = content.filter((each) => isOf(each, tag));
    return all.some((each) => each.isServed || present.has(contentKey(each)));
  });
}

/** Whether a tag leads to some content, or to an image of it. */
function isOf(content: MovedContent, { component, target }: Pick<MovedTag, 'component' | 'target'>): boolean {
  return (
    content.component === component &&
    (target.platform === undefined ? content.digest === target.digest : content.releases.includes(target.release))
  );
}

/** Names content of a component. */
export function contentKey({ component, digest }: ComponentDigest): string {
  return `${component} ${digest}`;
}

/** What a move writes into the ledger; nothing where the ledger says so already. */
export function movedAction(
  { environment, reason }: Move,
  { places, lanes, gone }: MovePlan,
  tags: readonly MovedTag[],
  referrers: KnownReferrers,
): Action[] {
  const isMoving = places.length > 0;
  const more = tags.filter(({ isRecorded }) => !isRecorded);
  const leaving = gone.filter(({ isRecorded }) => isMoving || !isRecorded);
  return !isMoving && more.length + leaving.length + referrers.length === 0
    ? []
    : [
        {
          kind: 'moved',
          environment,
          reason,
          places: [...places],
          lanes: isMoving ? [...lanes] : [],
          tags: more.map(({ component, repository, tag, kind, target }) => ({
            component,
            repository,
            tag,
            kind,
            ...target,
          })),
          ...(leaving.length === 0
            ? {}
            : {
                gone: leaving.map(({ component, repository, tag, instead }) => ({
                  component,
                  repository,
                  tag,
                  instead,
                })),
              }),
          ...(referrers.length === 0 ? {} : { referrers }),
        },
      ];
}
