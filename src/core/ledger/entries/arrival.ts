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
  type ServedImage,
} from '../facts';
import {
  contentId,
  contentIdSchema,
  originFields,
  placedImageSchema,
  releaseIdSchema,
  setTagSchema,
  type ContentId,
  type PlacedImage,
} from '../release';
import { waySchema } from '../way';
import type { Circumstances } from './action';
import { attachedSchema, factsOfAttached, foldAttached } from './attaching';
import { changeLane, changeServed, nextStepNumber, type FactChange } from './changing';

/** A rule that was set aside on purpose, and why. */
export const despiteSchema = z.object({ rule: z.string(), reason: z.string() });

/** What every action says that brings a release into an environment. */
export const arrivalFields = {
  ...originFields,
  environment: z.string(),
  images: z.array(placedImageSchema),
  /** The name of all that the release holds, where these are not all of its images. */
  content: contentIdSchema.optional(),
  tags: z.array(setTagSchema),
  /** How each image came, and the lines and branches that it is the newest of since. */
  comings: z.array(z.object({ image: z.string(), way: waySchema, lanes: z.array(z.string()) })),
  /** The releases that served what this took over. */
  replaces: z.array(releaseIdSchema).optional(),
  /** It was one decision with the entry before. */
  together: z.boolean().optional(),
  /** The rules that it met, and how. */
  gates: z.array(z.object({ gate: z.string(), detail: z.string() })).optional(),
  /** Rules that it did not meet, and why it came nevertheless. */
  despite: z.array(despiteSchema).optional(),
  /** What came along with it. */
  attached: attachedSchema.optional(),
};

/** A release that comes into an environment. */
export type Arrival = z.infer<z.ZodObject<typeof arrivalFields>>;

/** An arrival, and the environment that it came from; none where it was published. */
type ComingArrival = Arrival & { readonly from?: string };

export type ImageComing = Arrival['comings'][number];

function contentOf({ content, images }: Arrival): ContentId {
  return content ?? contentId(images);
}

/** The facts that the fold of an arrival reads, whatever kind it is of. */
export function factsOfArrival(arrival: Arrival): FactKey[] {
  const { environment, release, commit, version, tags, replaces = [] } = arrival;
  const lanes = new Set(arrival.comings.flatMap((each) => each.lanes));
  return [
    { kind: 'environment', key: environment },
    { kind: 'commit', key: commit },
    ...[release, ...replaces].map((key) => ({ kind: 'release', key }) as const),
    ...(version === undefined ? [] : [{ kind: 'version', key: version } as const]),
    ...(version === undefined ? [] : versionLinesOf(version)).map((key) => ({ kind: 'line', key }) as const),
    ...tags.map(({ repository, tag }) => ({ kind: 'tag', key: tagKey(repository, tag) }) as const),
    ...[...lanes].map((lane) => ({ kind: 'lane', key: laneKey(environment, lane) }) as const),
    { kind: 'withdrawn', key: withdrawnKey(environment, contentOf(arrival)) },
    ...factsOfAttached(arrival.attached),
  ];
}

/**
 * Folds in the tags, what the environment serves, the way back from there, and what became of the
 * releases. `known`: the release itself, as it stands without this arrival.
 */
export function foldArrival(
  action: ComingArrival,
  circumstances: Circumstances,
  known: Release | undefined,
  { before, after }: FactChange,
): void {
  const { comings } = action;
  const changes: Changes = {
    served: foldServed(action, comings, circumstances, before, after),
    lanes: foldLanes(action, comings, before, after),
    tags: foldTags(action, circumstances, before, after),
  };
  after.set('step', stepKey(action.environment, nextStepNumber(action.environment, before)), {
    ...changes,
    at: circumstances.at,
    of: { release: action.release, commit: action.commit, version: action.version },
    together: action.together === true,
  });
  foldReleases(action, comings, circumstances, known, before, after);
  foldAttached(action.attached, before, after);
}

/** A fixed tag keeps the build that took it first. Answers what became of the moving tags. */
function foldTags(
  { tags, commit, version }: Arrival,
  { seq }: Circumstances,
  before: Facts,
  after: Facts,
): Changes['tags'] {
  return tags.flatMap(({ image, repository, tag, kind, digest }) => {
    const key = tagKey(repository, tag);
    const known = before.get('tag', key);
    if (kind === 'moving' || known?.digest !== digest) {
      const earlier = kind === 'moving' ? earlierThan(digest, known) : {};
      after.set('tag', key, { kind, digest, commit, version, ...earlier, seq });
    }
    const is = { digest, commit, version };
    return kind === 'fixed' ? [] : [{ image, repository, tag, is, was: targetOf(known) ?? null }];
  });
}

function foldServed(
  { environment, images, tags, version, commit, release, from }: ComingArrival,
  comings: readonly ImageComing[],
  { at, actor }: Circumstances,
  before: Facts,
  after: Facts,
): Changes['served'] {
  const served = servedIn(before, environment);
  const step = nextStepNumber(environment, before);
  const arrived = images
    .filter(({ image }) => comings.some((each) => each.image === image && each.way === 'takes-over'))
    .map((placed) => {
      const own = tags.filter(({ image }) => image === placed.image).map(({ tag }) => tag);
      const since = sinceOf(served, placed) ?? at;
      return { image: placed.image, is: { ...placed, version, commit, release, since, step, by: actor, tags: own } };
    });
  return changeServed(environment, arrived, { before, after }, { from: from ?? null });
}

/** The same digest published again does not make an environment look freshly changed. */
function sinceOf(served: readonly ServedImage[], placed: PlacedImage): ServedImage['since'] | undefined {
  return served.find(
    ({ image, digest, repository }) =>
      image === placed.image && digest === placed.digest && repository === placed.repository,
  )?.since;
}

function foldLanes(
  { environment, commit, version }: Arrival,
  comings: readonly ImageComing[],
  before: Facts,
  after: Facts,
): Changes['lanes'] {
  const lanes = [...new Set(comings.flatMap((each) => each.lanes))];
  return lanes.flatMap((lane) => {
    const heading = comings.filter((each) => each.lanes.includes(lane));
    const heads = heading.map(({ image }) => ({ image, is: { image, commit, version } }));
    return changeLane(environment, lane, heads, { before, after });
  });
}

/** Where the release has been is kept with it, and with those that it replaced until when they were served. */
function foldReleases(
  arrival: Arrival,
  comings: readonly ImageComing[],
  { at }: Circumstances,
  known: Release | undefined,
  before: Facts,
  after: Facts,
): void {
  const { release, environment, replaces = [] } = arrival;
  const takes = comings.filter(({ way }) => way === 'takes-over').map(({ image }) => image);
  if (known !== undefined) {
    const stays = comings.reduce(
      (all, { image, way }) => withStay(all, { environment, image, way, since: at }),
      [...known.arrived],
    );
    after.set('release', release, { ...known, arrived: stays });
  }
  for (const id of replaces.filter((each) => each !== release)) {
    const replaced = before.get('release', id);
    if (replaced !== undefined) {
      after.set('release', id, { ...replaced, arrived: ended(replaced.arrived, environment, takes, at) });
    }
  }
  const content = contentOf(arrival);
  if (takes.length > 0 && withdrawalOf(before, environment, content) !== undefined) {
    after.set('withdrawn', withdrawnKey(environment, content), null);
  }
}

type Stay = Release['arrived'][number];

/** What became of a release, with one more arrival: what it once was there, it has been. */
function withStay(stays: readonly Stay[], stay: Stay): Stay[] {
  const earlier = stays.find(({ environment, image }) => environment === stay.environment && image === stay.image);
  const others = stays.filter((each) => each !== earlier);
  if (earlier === undefined) {
    return [...stays, stay];
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
  images: readonly string[],
  at: Stay['since'],
): Stay[] {
  return stays.map((stay) =>
    stay.environment === environment && images.includes(stay.image) && isServing(stay) ? { ...stay, until: at } : stay,
  );
}

/** Whether a release is served where it came to. */
export function isServing({ way, until }: Stay): boolean {
  return way === 'takes-over' && until === undefined;
}
