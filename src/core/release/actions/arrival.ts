import * as z from 'zod';
import { commitSchema } from '../../commit';
import { linesOf, versionSchema } from '../../tags/version';
import { tagKey, type FactKey, type Facts, type ServedImage } from '../facts';
import { placedImageSchema, releaseIdSchema, setTagSchema, type PlacedImage } from '../release';
import type { Circumstances } from './action';

/** What every action says that brings a release into an environment. */
export const arrivalFields = {
  release: releaseIdSchema,
  commit: commitSchema,
  version: versionSchema.optional(),
  branch: z.string().optional(),
  /** The number that the CI gave to the build, and where its run can be looked at. */
  build: z.string().optional(),
  run: z.string().optional(),
  environment: z.string(),
  images: z.array(placedImageSchema),
  tags: z.array(setTagSchema),
  /** Whether the environment serves this from now on; false where it already served something newer. */
  current: z.boolean(),
  /** The rules that it met, and how. */
  gates: z.array(z.object({ gate: z.string(), detail: z.string() })).optional(),
};

/** A release that comes into an environment. */
export type Arrival = z.infer<z.ZodObject<typeof arrivalFields>>;

/** The facts that the fold of an arrival reads, whatever kind it is of. */
export function factsOfArrival({ environment, release, commit, version, tags }: Arrival): FactKey[] {
  return [
    { kind: 'environment', key: environment },
    { kind: 'release', key: release },
    { kind: 'commit', key: commit },
    ...(version === undefined ? [] : [{ kind: 'version', key: version } as const]),
    ...(version === undefined ? [] : linesOf(version)).map((key) => ({ kind: 'line', key }) as const),
    ...tags
      .filter(({ kind }) => kind === 'fixed')
      .map(({ repository, tag }) => ({ kind: 'tag', key: tagKey(repository, tag) }) as const),
  ];
}

/** Folds in the tags, what the environment serves, and where a release that is known has been. */
export function foldArrival(action: Arrival, circumstances: Circumstances, before: Facts, after: Facts): void {
  foldTags(action, circumstances, before, after);
  foldEnvironment(action, circumstances, before, after);
  const known = before.get('release', action.release);
  if (known !== undefined && !known.arrived.some(({ environment }) => environment === action.environment)) {
    const arrived = [...known.arrived, { environment: action.environment, at: circumstances.at }];
    after.set('release', action.release, { ...known, arrived });
  }
}

function foldTags({ tags, commit, version }: Arrival, { seq }: Circumstances, before: Facts, after: Facts): void {
  for (const { repository, tag, kind, digest } of tags) {
    const key = tagKey(repository, tag);
    // A fixed tag keeps the build that took it first.
    if (kind === 'moving' || before.get('tag', key)?.digest !== digest) {
      after.set('tag', key, { kind, digest, commit, version, seq });
    }
  }
}

function foldEnvironment(action: Arrival, { at, actor }: Circumstances, before: Facts, after: Facts): void {
  if (!action.current) {
    return;
  }
  const { environment, version, commit, release } = action;
  const served = before.get('environment', environment) ?? [];
  const arrived = action.images.map((placed): ServedImage => {
    const tags = action.tags.filter(({ image }) => image === placed.image).map(({ tag }) => tag);
    const since = sinceOf(served, placed) ?? at;
    return { ...placed, version, commit, release, since, by: actor, tags };
  });
  const taking = (image: string): ServedImage | undefined => arrived.find((each) => each.image === image);
  after.set('environment', environment, [
    ...served.map((each) => taking(each.image) ?? each),
    ...arrived.filter(({ image }) => !served.some((each) => each.image === image)),
  ]);
}

/** The same digest published again does not make an environment look freshly changed. */
function sinceOf(served: readonly ServedImage[], placed: PlacedImage): ServedImage['since'] | undefined {
  return served.find(
    ({ image, digest, repository }) =>
      image === placed.image && digest === placed.digest && repository === placed.repository,
  )?.since;
}
