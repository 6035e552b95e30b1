import * as z from 'zod';
import {
  leftBehindSchema,
  rollbackChangesSchema,
  earlierThan,
  laneKey,
  stepKey,
  tagKey,
  targetOf,
  withdrawnKey,
  type Changes,
  type Facts,
  type ServedComponent,
} from '../facts';
import { contentIdSchema, releaseIdSchema } from '../release';
import { releaseSetSchema } from '../release-set';
import { defineAction, type Circumstances } from './action';
import { servedIn, stayIn } from '../environment';
import { ended, isServing } from './arrival';
import { changeLane, changeServed, nextStepNumber, type FactChange } from './changing';

const schema = z.object({
  kind: z.literal('rolled-back'),
  environment: z.string(),
  reason: z.string(),
  /** The environment is as it was after this step; none where one lane was rolled back, and the rest stays. */
  back: z.number().int().optional(),
  /** The line of versions or the branch that was rolled back alone, and the releases that were left behind. */
  left: leftBehindSchema.optional(),
  /** What may not come back but on purpose. */
  withdrawn: z.array(z.object({ release: releaseIdSchema, content: contentIdSchema })),
  /** The releases that are served again, or are the newest of the lane again. */
  releases: z.array(releaseIdSchema),
  /** The products that were rolled back with it; undefined where it was rolled back alone. */
  set: releaseSetSchema.optional(),
  ...rollbackChangesSchema.shape,
});
type RolledBack = z.infer<typeof schema>;

/** An environment was rolled back to what it served before, or one lane of it to what was its newest before. */
export const rolledBack = defineAction<RolledBack, typeof schema>('rolled-back', {
  schema,
  reads: ({ environment, withdrawn, releases, left, lanes, tags }) => [
    { kind: 'environment', key: environment },
    ...[...new Set([...withdrawn.map(({ release }) => release), ...releases, ...(left?.releases ?? [])])].map(
      (key) => ({ kind: 'release', key }) as const,
    ),
    ...[...new Set(lanes.map(({ lane }) => lane))].map(
      (lane) => ({ kind: 'lane', key: laneKey(environment, lane) }) as const,
    ),
    ...tags.map(({ repository, tag }) => ({ kind: 'tag', key: tagKey(repository, tag) }) as const),
    ...withdrawn.map(({ content }) => ({ kind: 'withdrawn', key: withdrawnKey(environment, content) }) as const),
  ],
  fold(action, circumstances, before, after) {
    const { environment, back, left, withdrawn, reason } = action;
    const { at, actor } = circumstances;
    const tags = foldTags(action, circumstances, before, after);
    const served = foldServed(action, tags, circumstances, { before, after });
    const lanes = foldLanes(action, circumstances, before, after);
    after.set('step', stepKey(environment, nextStepNumber(environment, before)), {
      served,
      lanes,
      tags,
      fixed: [],
      at,
      ...(left === undefined ? { back } : { left }),
      withdrew: withdrawn.map(({ release }) => release),
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
  tags: Changes['tags'],
  circumstances: Circumstances,
  { before, after }: FactChange,
): Changes['served'] {
  const now = servedIn(before, environment);
  const again = served.map(({ component, is }) => ({ component, is: is && backAgain(is, now, circumstances) }));
  return changeServed(environment, again, { before, after }, { tags });
}

/**
 * A component that stands somewhere again.
 *
 * @param there What stood there until now: what stays, only by an earlier step, does not look freshly changed.
 */
function backAgain(
  is: ServedComponent,
  there: readonly ServedComponent[],
  { at, actor }: Circumstances,
): ServedComponent {
  const same = there.find(
    ({ component, digest, release }) => component === is.component && digest === is.digest && release === is.release,
  );
  return { ...is, since: same?.since ?? at, by: same?.by ?? actor };
}

function foldLanes(
  { environment, lanes }: RolledBack,
  circumstances: Circumstances,
  before: Facts,
  after: Facts,
): Changes['lanes'] {
  return [...new Set(lanes.map(({ lane }) => lane))].flatMap((lane) => {
    const there = before.get('lane', laneKey(environment, lane)) ?? [];
    const changed = lanes
      .filter((each) => each.lane === lane)
      .map(({ component, is }) => ({ component, is: is && backAgain(is, there, circumstances) }));
    return changeLane(environment, lane, changed, { before, after });
  });
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
        ? { ...known, ...earlierThan(known.digest, known, [left, known.instead]), gone: true, instead }
        : { kind: 'moving' as const, ...is, ...earlierThan(is.digest, known) };
    after.set('tag', key, { ...target, seq });
    return [{ component, repository, tag, is, was: targetOf(known) ?? null }];
  });
}

/** Those that are left are served no more, and those that are gone back to are served again. */
function foldReleases(
  { environment, served, withdrawn, releases, left }: RolledBack,
  { at, seq }: Circumstances,
  before: Facts,
  after: Facts,
): void {
  const components = served.map(({ component }) => component);
  for (const { release } of withdrawn) {
    const known = before.get('release', release);
    if (known !== undefined) {
      after.set('release', release, { ...known, arrived: ended(known.arrived, environment, components, at) });
    }
  }
  for (const id of left?.releases ?? []) {
    const known = before.get('release', id);
    if (known !== undefined) {
      const stays = known.arrived.map((stay) => (stay.environment === environment ? { ...stay, left: at } : stay));
      after.set('release', id, { ...known, arrived: stays });
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
      const stays = again.map((component) => {
        const { from = null, rules, adopted } = stayIn(known, environment, component) ?? {};
        return { environment, component, way: 'takes-over' as const, from, since: at, seq, rules, adopted };
      });
      after.set('release', id, { ...known, arrived: [...others, ...stays] });
    }
  }
}
