import * as z from 'zod';
import { digestSchema } from '../../oci/digest';
import { repositoryNameSchema } from '../../oci/reference';
import {
  earlierThan,
  laneKey,
  tagKey,
  tagPlaceSchema,
  tagTargetFields,
  type Fact,
  type FactKey,
  type MovedPlace,
  type ServedComponent,
} from '../facts';
import { setTagSchema } from '../release';
import { defineAction } from './action';
import { factsOfReferrers, foldReferrers, knownReferrersSchema } from './known-referrers';

const schema = z.object({
  kind: z.literal('moved'),
  environment: z.string(),
  reason: z.string(),
  /** The components that are in another repository from now on, and where; empty where only more tags came to the new place. */
  places: z.array(z.object({ component: z.string(), from: repositoryNameSchema, repository: repositoryNameSchema })),
  /** The lines and branches whose newest releases are there then. */
  lanes: z.array(z.string()),
  /** The tags that the environment has in the new place, and the releases that they were set for. */
  tags: z.array(setTagSchema.extend(tagTargetFields)),
  /**
   * Moving tags that the new place had once, and that lead to what the environment has under them no more; `instead`: where each is
   * pointed if it cannot be removed.
   */
  gone: z.array(tagPlaceSchema.extend({ instead: digestSchema.optional() })).optional(),
  referrers: knownReferrersSchema.optional(),
});
type Moved = z.infer<typeof schema>;

/** Components of an environment are in another repository. What it serves, and what came before, stays as it is. */
export const moved = defineAction<Moved, typeof schema>('moved', {
  schema,
  reads: ({ environment, lanes, tags, gone = [], referrers }) => [
    { kind: 'environment', key: environment },
    ...lanes.map((lane): FactKey => ({ kind: 'lane', key: laneKey(environment, lane) })),
    ...[...tags, ...gone].map(({ repository, tag }): FactKey => ({ kind: 'tag', key: tagKey(repository, tag) })),
    ...factsOfReferrers(referrers),
  ],
  fold({ environment, places, lanes, tags, gone = [], referrers }, circumstances, before, after) {
    const { seq } = circumstances;
    const known = before.get('environment', environment);
    if (known !== undefined) {
      const inPlaces = places.length > 0 ? inNewPlaces(known, places) : known;
      const all = [...inPlaces.gone, ...gone.map(({ component, repository, tag }) => ({ component, repository, tag }))];
      const once = new Map(all.map((place) => [tagKey(place.repository, place.tag), place]));
      after.set('environment', environment, { ...inPlaces, gone: [...once.values()] });
    }
    for (const { repository, tag, instead } of gone) {
      const key = tagKey(repository, tag);
      const there = before.get('tag', key);
      if (there !== undefined) {
        const earlier = earlierThan(there.digest, there, [there.instead]);
        after.set('tag', key, { ...there, ...earlier, gone: true, instead, seq });
      }
    }
    for (const lane of lanes) {
      const heads = before.get('lane', laneKey(environment, lane)) ?? [];
      after.set('lane', laneKey(environment, lane), heads.map(placedAnew(places)));
    }
    for (const { repository, tag, kind, digest, release, commit, version, platform } of tags) {
      const key = tagKey(repository, tag);
      const there = before.get('tag', key);
      if (kind === 'moving' || there?.digest !== digest) {
        const earlier = kind === 'moving' ? earlierThan(digest, there) : {};
        after.set('tag', key, { kind, digest, release, commit, version, platform, ...earlier, seq });
      }
    }
    foldReferrers(referrers, circumstances, before, after);
  },
});

function inNewPlaces(known: Fact<'environment'>, places: Moved['places']): Fact<'environment'> {
  const isMoved = (component: string): boolean => places.some((place) => place.component === component);
  const before = known.places ?? [];
  const now = places.map(({ component, from, repository }): MovedPlace => {
    const former = before.find((each) => each.component === component)?.former ?? [];
    return { component, repository, former: [...new Set([from, ...former])].filter((each) => each !== repository) };
  });
  return {
    ...known,
    components: known.components.map(placedAnew(places)),
    // What was removed where it was is not there either.
    gone: known.gone.filter(({ component }) => !isMoved(component)),
    places: [...before.filter(({ component }) => !isMoved(component)), ...now],
  };
}

function placedAnew(places: Moved['places']): (component: ServedComponent) => ServedComponent {
  return (served) => {
    const place = places.find(({ component }) => component === served.component);
    return place === undefined ? served : { ...served, repository: place.repository };
  };
}
