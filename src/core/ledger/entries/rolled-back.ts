import * as z from 'zod';
import {
  rollbackChangesSchema,
  earlierThan,
  laneKey,
  stepKey,
  tagKey,
  targetOf,
  withdrawnKey,
  type Changes,
  type Facts,
} from '../facts';
import { contentIdSchema, releaseIdSchema } from '../release';
import { defineAction, type Circumstances } from './action';
import { servedIn } from '../environment';
import { ended, isServing } from './arrival';
import { changeLane, changeServed, nextStepNumber } from './changing';

const schema = z.object({
  kind: z.literal('rolled-back'),
  environment: z.string(),
  reason: z.string(),
  /** The environment is as it was after this step. */
  back: z.number().int(),
  /** What may not come back but on purpose. */
  withdrawn: z.array(z.object({ release: releaseIdSchema, content: contentIdSchema })),
  /** The releases that are served again. */
  releases: z.array(releaseIdSchema),
  ...rollbackChangesSchema.shape,
});
type RolledBack = z.infer<typeof schema>;

/** An environment was rolled back to what it served before. */
export const rolledBack = defineAction<RolledBack, typeof schema>('rolled-back', {
  schema,
  reads: ({ environment, withdrawn, releases, lanes, tags }) => [
    { kind: 'environment', key: environment },
    ...[...new Set([...withdrawn.map(({ release }) => release), ...releases])].map(
      (key) => ({ kind: 'release', key }) as const,
    ),
    ...[...new Set(lanes.map(({ lane }) => lane))].map(
      (lane) => ({ kind: 'lane', key: laneKey(environment, lane) }) as const,
    ),
    ...tags.map(({ repository, tag }) => ({ kind: 'tag', key: tagKey(repository, tag) }) as const),
    ...withdrawn.map(({ content }) => ({ kind: 'withdrawn', key: withdrawnKey(environment, content) }) as const),
  ],
  fold(action, circumstances, before, after) {
    const { environment, back, withdrawn, reason } = action;
    const { at, actor } = circumstances;
    const served = foldServed(action, circumstances, before, after);
    const lanes = foldLanes(action, before, after);
    const tags = foldTags(action, circumstances, before, after);
    after.set('step', stepKey(environment, nextStepNumber(environment, before)), {
      served,
      lanes,
      tags,
      fixed: [],
      at,
      back,
      reason,
      together: false,
    });
    for (const { release, content } of withdrawn) {
      after.set('withdrawn', withdrawnKey(environment, content), { release, at, by: actor, reason });
    }
    foldReleases(action, circumstances, before, after);
  },
});

function foldServed(
  { environment, served }: RolledBack,
  { at, actor }: Circumstances,
  before: Facts,
  after: Facts,
): Changes['served'] {
  const now = servedIn(before, environment);
  const again = served.map(({ component, is }) => {
    // What goes on being served, only by an earlier step, does not look freshly changed.
    const same = now.find(
      (each) => each.component === component && each.digest === is?.digest && each.release === is.release,
    );
    return { component, is: is && { ...is, since: same?.since ?? at, by: same?.by ?? actor } };
  });
  return changeServed(environment, again, { before, after });
}

function foldLanes({ environment, lanes }: RolledBack, before: Facts, after: Facts): Changes['lanes'] {
  return [...new Set(lanes.map(({ lane }) => lane))].flatMap((lane) =>
    changeLane(
      environment,
      lane,
      lanes.filter((each) => each.lane === lane),
      { before, after },
    ),
  );
}

function foldTags(
  { environment, tags }: RolledBack,
  { seq }: Circumstances,
  before: Facts,
  after: Facts,
): Changes['tags'] {
  const served = servedIn(before, environment);
  return tags.flatMap(({ component, repository, tag, is, instead }) => {
    const key = tagKey(repository, tag);
    const known = before.get('tag', key);
    if (known === undefined) {
      return [];
    }
    // Where a tag cannot be removed, it may stand at what was served until now.
    const left = served.find((each) => each.component === component)?.digest;
    const target =
      is === null
        ? { ...known, ...earlierThan(known.digest, known, left), gone: true, instead }
        : { kind: 'moving' as const, ...is, ...earlierThan(is.digest, known) };
    after.set('tag', key, { ...target, seq });
    return [{ component, repository, tag, is, was: targetOf(known) ?? null }];
  });
}

/** Those that are left are served no more, and those that are gone back to are served again. */
function foldReleases(
  { environment, served, withdrawn, releases }: RolledBack,
  { at }: Circumstances,
  before: Facts,
  after: Facts,
): void {
  const components = served.map(({ component }) => component);
  for (const { release } of withdrawn) {
    const left = before.get('release', release);
    if (left !== undefined) {
      after.set('release', release, { ...left, arrived: ended(left.arrived, environment, components, at) });
    }
  }
  for (const id of releases) {
    const known = before.get('release', id);
    if (known !== undefined) {
      const serving = known.arrived.filter((stay) => stay.environment === environment && isServing(stay));
      const again = served
        .filter(({ component, is }) => is?.release === id && !serving.some((stay) => stay.component === component))
        .map(({ component }) => component);
      const others = known.arrived.filter(
        (stay) => stay.environment !== environment || !again.includes(stay.component),
      );
      const stays = again.map((component) => ({ environment, component, way: 'takes-over' as const, since: at }));
      after.set('release', id, { ...known, arrived: [...others, ...stays] });
    }
  }
}
