import * as z from 'zod';
import { versionLinesOf } from '../../tags/version';
import { servedIn } from '../environment';
import {
  earlierThan,
  laneKey,
  stepKey,
  tagKey,
  targetOf,
  withdrawalOf,
  withdrawnKey,
  type Changes,
  type FactKey,
  type Facts,
  type Release,
  type ServedComponent,
  type TagPlace,
} from '../facts';
import {
  contentId,
  contentIdSchema,
  originFields,
  placedComponentSchema,
  releaseIdSchema,
  setTagSchema,
  type ContentId,
  type PlacedComponent,
} from '../release';
import { judgedBySchema } from '../rules';
import { waySchema } from '../way';
import { factsOfRemovals, foldThereAgain } from './there-again';
import type { Circumstances } from './action';
import { knownReferrersSchema, factsOfReferrers, foldReferrers } from './known-referrers';
import { changeLane, changeServed, nextStepNumber, type FactChange } from './changing';

/** A rule that was set aside on purpose, and why. */
export const despiteSchema = z.object({ rule: z.string(), reason: z.string() });

/** What every action says that brings a release into an environment. */
export const arrivalFields = {
  ...originFields,
  environment: z.string(),
  components: z.array(placedComponentSchema),
  /** The name of all that the release holds, where these are not all of its components. */
  content: contentIdSchema.optional(),
  tags: z.array(setTagSchema),
  /**
   * How each component came, and the lines and branches that it is the newest of since; `tagged`: those of them that a moving tag
   * follows, of branches only followed ones.
   */
  arrivals: z.array(
    z.object({ component: z.string(), way: waySchema, lanes: z.array(z.string()), tagged: z.array(z.string()) }),
  ),
  /** The components that retire with it: the product has them no more, and the environment serves them no more. */
  retires: z.array(z.string()).optional(),
  /** The releases that served what this took over, or what retires. */
  replaces: z.array(releaseIdSchema).optional(),
  /** It was one decision with the entry before. */
  together: z.boolean().optional(),
  /** The rules of the checkout that it was judged by; undefined where nobody knows them any more. */
  rules: judgedBySchema.optional(),
  /** The rules that it met, and how. */
  gates: z.array(z.object({ gate: z.string(), detail: z.string() })).optional(),
  /** Rules that it did not meet, and why it came nevertheless. */
  despite: z.array(despiteSchema).optional(),
  /** The referrers that were carried with it. */
  referrers: knownReferrersSchema.optional(),
};

/** A release that comes into an environment. */
export type Arrival = z.infer<z.ZodObject<typeof arrivalFields>>;

/**
 * An arrival, and the environment that releases come from; none where builds are published. `adopted`: the release was there
 * before the ledger began.
 */
type ArrivalFrom = Arrival & { readonly from?: string | null; readonly adopted?: true };

/** The name of all that the release of an arrival holds. */
export function arrivedContent({ content, components }: Arrival): ContentId {
  return content ?? contentId(components);
}

/** The facts that the fold of an arrival reads, whatever kind it is of. */
export function factsOfArrival(arrival: Arrival): FactKey[] {
  const { environment, release, commit, version, tags, rules, replaces = [] } = arrival;
  const lanes = new Set(arrival.arrivals.flatMap((each) => each.lanes));
  return [
    { kind: 'environment', key: environment },
    { kind: 'commit', key: commit },
    ...[release, ...replaces].map((key) => ({ kind: 'release', key }) as const),
    ...(version === undefined ? [] : [{ kind: 'version', key: version } as const]),
    ...(version === undefined ? [] : versionLinesOf(version)).map((key) => ({ kind: 'line', key }) as const),
    ...tags.map(({ repository, tag }) => ({ kind: 'tag', key: tagKey(repository, tag) }) as const),
    ...[...lanes].map((lane) => ({ kind: 'lane', key: laneKey(environment, lane) }) as const),
    { kind: 'withdrawn', key: withdrawnKey(environment, arrivedContent(arrival)) },
    ...(rules === undefined ? [] : [{ kind: 'rules', key: rules.digest } as const]),
    ...factsOfRemovals(arrival.components),
    ...factsOfReferrers(arrival.referrers),
  ];
}

/**
 * Folds in the tags, what the environment serves, the step that a rollback undoes, and what became of the
 * releases. `known`: the release itself, as it stands without this arrival.
 */
export function foldArrival(
  action: ArrivalFrom,
  circumstances: Circumstances,
  known: Release | undefined,
  { before, after }: FactChange,
): void {
  const tags = foldTags(action, circumstances, before, after);
  const changes: Changes = {
    served: foldServed(action, tags, circumstances, { before, after }),
    lanes: foldLanes(action, circumstances, { before, after }),
    tags,
  };
  after.set('step', stepKey(action.environment, nextStepNumber(action.environment, before)), {
    ...changes,
    at: circumstances.at,
    of: { release: action.release, commit: action.commit, version: action.version },
    fixed: newFixedTags(action, before),
    together: action.together === true,
    withdrew: [],
  });
  foldReleases(action, circumstances, known, before, after);
  foldRules(action, circumstances, before, after);
  foldReferrers(action.referrers, circumstances, before, after);
  foldThereAgain(action.components, before, after);
}

/** The fixed tags that were not there before. */
function newFixedTags({ tags }: Arrival, before: Facts): TagPlace[] {
  return tags
    .filter(({ kind, repository, tag }) => kind === 'fixed' && before.get('tag', tagKey(repository, tag)) === undefined)
    .map(({ component, repository, tag }) => ({ component, repository, tag }));
}

/** A fixed tag keeps the build that took it first. Answers what became of the moving tags. */
function foldTags(
  { tags, release, commit, version }: Arrival,
  { seq }: Circumstances,
  before: Facts,
  after: Facts,
): Changes['tags'] {
  return tags.flatMap(({ component, repository, tag, kind, digest, platform }) => {
    const key = tagKey(repository, tag);
    const known = before.get('tag', key);
    if (kind === 'moving' || known?.digest !== digest || known.tidied === true) {
      const earlier = kind === 'moving' ? earlierThan(digest, known) : {};
      after.set('tag', key, { kind, digest, release, commit, version, platform, ...earlier, seq });
    }
    const is = { digest, release, commit, version, platform };
    return kind === 'fixed' ? [] : [{ component, repository, tag, is, was: targetOf(known) ?? null }];
  });
}

function foldServed(
  action: ArrivalFrom,
  tags: Changes['tags'],
  circumstances: Circumstances,
  { before, after }: FactChange,
): Changes['served'] {
  const { environment, components, arrivals, from, retires = [] } = action;
  const served = servedIn(before, environment);
  const gone = served.filter(({ component }) => retires.includes(component));
  const arrived = components
    .filter(({ component }) => arrivals.some((each) => each.component === component && each.way === 'takes-over'))
    .map((placed) => ({
      component: placed.component,
      is: arrivedComponent(placed, served, action, { ...circumstances, before }),
    }));
  const changes = [...arrived, ...gone.map(({ component }) => ({ component, is: null }))];
  return changeServed(
    environment,
    changes,
    { before, after },
    { tags, from: from ?? null, lanes: arrivals.flatMap(({ tagged }) => tagged) },
  );
}

/**
 * A component as it stands since it came. The same digest that comes again does not make an environment look freshly changed.
 *
 * @param there What stood there until now.
 */
function arrivedComponent(
  placed: PlacedComponent,
  there: readonly ServedComponent[],
  { environment, version, commit, release, tags, adopted }: ArrivalFrom,
  { at, actor, before }: Circumstances & { readonly before: Facts },
): ServedComponent {
  const all = tags.filter(({ component }) => component === placed.component);
  // The first of them names the component: a tag of one platform does not.
  const own = [
    ...all.filter((each) => each.platform === undefined),
    ...all.filter((each) => each.platform !== undefined),
  ];
  const same = there.find(
    ({ component, digest, repository }) =>
      component === placed.component && digest === placed.digest && repository === placed.repository,
  );
  const step = nextStepNumber(environment, before);
  return {
    ...placed,
    version,
    commit,
    release,
    since: same?.since ?? at,
    step,
    by: actor,
    tags: own.map(({ tag }) => tag),
    adopted,
  };
}

function foldLanes(action: ArrivalFrom, circumstances: Circumstances, { before, after }: FactChange): Changes['lanes'] {
  const { environment, components, arrivals } = action;
  const lanes = [...new Set(arrivals.flatMap((each) => each.lanes))];
  return lanes.flatMap((lane) => {
    const there = before.get('lane', laneKey(environment, lane)) ?? [];
    const heading = arrivals.filter((each) => each.lanes.includes(lane)).map(({ component }) => component);
    const heads = components
      .filter(({ component }) => heading.includes(component))
      .map((placed) => ({
        component: placed.component,
        is: arrivedComponent(placed, there, action, { ...circumstances, before }),
      }));
    return changeLane(environment, lane, heads, { before, after });
  });
}

/** Where the release has been is kept with it, and with those that it replaced until when they were served. */
function foldReleases(
  arrival: ArrivalFrom,
  { at, seq }: Circumstances,
  known: Release | undefined,
  before: Facts,
  after: Facts,
): void {
  const { release, environment, arrivals, from = null, rules, retires = [], replaces = [], adopted } = arrival;
  const takes = arrivals.filter(({ way }) => way === 'takes-over').map(({ component }) => component);
  const leaving = [...takes, ...retires];
  if (known !== undefined) {
    const stays = arrivals.reduce(
      (all, { component, way }) =>
        withStay(all, { environment, component, way, from, since: at, seq, rules: rules?.digest, adopted }),
      [...known.arrived],
    );
    after.set('release', release, { ...known, arrived: stays });
  }
  for (const id of replaces.filter((each) => each !== release)) {
    const replaced = before.get('release', id);
    if (replaced !== undefined) {
      after.set('release', id, { ...replaced, arrived: ended(replaced.arrived, environment, leaving, at) });
    }
  }
  const content = arrivedContent(arrival);
  if (takes.length > 0 && withdrawalOf(before, environment, content) !== undefined) {
    after.set('withdrawn', withdrawnKey(environment, content), null);
  }
}

function foldRules({ rules: judgedBy }: Arrival, { seq }: Circumstances, before: Facts, after: Facts): void {
  if (judgedBy === undefined) {
    return;
  }
  const { digest, commit, source, inForce } = judgedBy;
  const rules = judgedBy.rules ?? before.get('rules', digest);
  if (judgedBy.rules !== undefined) {
    after.set('rules', digest, judgedBy.rules);
  }
  if (inForce === true && rules !== undefined) {
    after.set('rules-in-force', '', { digest, commit, source, rules, seq });
  }
}

type Stay = Release['arrived'][number];

/** What became of a release, with one more arrival: what it once was there, it has been. */
function withStay(stays: readonly Stay[], stay: Stay): Stay[] {
  const earlier = stays.find(
    ({ environment, component }) => environment === stay.environment && component === stay.component,
  );
  const others = stays.filter((each) => each !== earlier);
  if (earlier === undefined || earlier.left !== undefined) {
    return [...others, stay];
  }
  if (stay.way === 'takes-over') {
    return isServing(earlier) ? [...stays] : [...others, stay];
  }
  return earlier.way === 'held' && stay.way === 'beside' ? [...others, stay] : [...stays];
}

/** What became of a release, with an end to its being served. */
export function ended(
  stays: readonly Stay[],
  environment: string,
  components: readonly string[],
  at: Stay['since'],
): Stay[] {
  return stays.map((stay) =>
    stay.environment === environment && components.includes(stay.component) && isServing(stay)
      ? { ...stay, until: at }
      : stay,
  );
}

/** Whether a release is served where it came to. */
export function isServing({ way, until }: Stay): boolean {
  return way === 'takes-over' && until === undefined;
}
