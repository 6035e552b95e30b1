import { parseVersion } from '../../src/core/tags/version';
import { servedIn } from '../../src/core/ledger/environment';
import { HodError } from '../../src/core/errors';
import type { Tag } from '../../src/core/oci/tag';
import { commitId, DeliveryWorld, type Commit } from '../models/delivery-world';
import { steps, worldEnvironments } from '../models/environments';
import { keepSeen } from '../support/seen-errors';
import { expectWhole } from '../models/tidy';

const keep = { releases: 1, for: undefined, branches: undefined, rollbacks: 1 };
const everywhere = { dev: keep, uat: keep, staging: keep, prod: keep };

/** Commits of main, each with its own content but the last, which brings back what the second held. */
const commits = [0, 1, 2, 3, 4, 5, 1].map((content, at): Commit => {
  const isRelease = at === 0;
  return {
    id: commitId(at),
    ancestors: new Set(Array.from({ length: at }, (_, each) => commitId(each))),
    branch: 'main',
    version: isRelease ? { kind: 'given', version: parseVersion('1.0.0'), source: 'git' } : { kind: 'none', near: [] },
    content: { timetable: `timetable ${content}` },
  };
});
const [released, old, , , , newest, revert] = commits as [Commit, Commit, Commit, Commit, Commit, Commit, Commit];

/** What became of some work: done, or the code of what stopped it. */
async function outcome(work: Promise<unknown>): Promise<string> {
  try {
    await work;
    return 'done';
  } catch (error) {
    if (!(error instanceof HodError)) {
      throw error;
    }
    keepSeen(error.code, error.problem);
    return error.code;
  }
}

type Act = (world: DeliveryWorld) => Promise<unknown>;

/** A world in which old builds may go, and one of them is about to be needed again. */
async function worldBefore(turn: () => Promise<void>): Promise<DeliveryWorld> {
  const world = new DeliveryWorld(commits, worldEnvironments, turn);
  for (const commit of commits.slice(0, -1)) {
    await world.publish(commit);
    if (commit === old) {
      await world.promote(steps.uat);
    }
  }
  await world.promote(steps.uat);
  return world;
}

/** Plays one thing, and another one whole at its n-th step, for every n. */
async function playAtEveryStep(outer: Act, inner: Act, expectAfter: (world: DeliveryWorld) => Promise<void>) {
  const codes = new Set<string>();
  for (let at = 0, isOver = false; !isOver; at += 1) {
    let left = Infinity;
    let between: Promise<string> | undefined;
    const world: DeliveryWorld = await worldBefore(async () => {
      left -= 1;
      if (left < 0) {
        left = Infinity;
        between = outcome(inner(world));
        await between;
      }
    });
    left = at;
    codes.add(`outer ${await outcome(outer(world))}`);
    isOver = between === undefined;
    codes.add(`inner ${(await between) ?? 'none'}`);
    expectWhole(world);
    await expectAfter(world);
    expectWhole(world);
  }
  return codes;
}

const tidy: Act = (world) => world.tidy(everywhere);
const bringBack: Act = (world) => world.publish(revert);
const runAgain: Act = (world) => world.publish(old);

/** The revert is published in the end, whatever came between: at once, or when it is asked for again. */
async function expectRevert(world: DeliveryWorld): Promise<void> {
  await tidy(world);
  await bringBack(world);
  const served = servedIn(world.facts, 'dev').find(({ component }) => component === 'timetable');
  expect(served?.digest).toBe(world.digestOf(revert, 'timetable'));
}

test('content that is needed again while tidying removes it is refused or sent again, wherever the two meet', async () => {
  const codes = await playAtEveryStep(bringBack, tidy, expectRevert);
  expect(codes).toContain('outer content-removed');
  expect(codes).toContain('outer done');
  const others = await playAtEveryStep(tidy, bringBack, expectRevert);
  expect(others).toContain('inner content-removed');
  expect(others).toContain('inner done');
}, 120_000);

test('an old build that runs again while tidying removes it leaves no tag above what is gone', async () => {
  await playAtEveryStep(runAgain, tidy, tidy as (world: DeliveryWorld) => Promise<void>);
  await playAtEveryStep(tidy, runAgain, tidy as (world: DeliveryWorld) => Promise<void>);
}, 120_000);

test('a rollback that meets tidying goes back to what is whole', async () => {
  const back: Act = (world) => world.rollback('uat', 'it leaks', { to: { commit: old.id } });
  const expectServed = async (world: DeliveryWorld): Promise<void> => {
    const digests = servedIn(world.facts, 'uat').map(({ digest }) => digest);
    expect([old, newest].map((each) => world.digestOf(each, 'timetable'))).toEqual(
      expect.arrayContaining(digests.filter((digest) => digest === world.digestOf(old, 'timetable'))),
    );
    await tidy(world);
  };
  await playAtEveryStep(back, tidy, expectServed);
  await playAtEveryStep(tidy, back, expectServed);
}, 120_000);

test('what is killed at any step ends the same when it is run again', async () => {
  for (let at = 1; ; at += 1) {
    const world = await worldBefore(() => Promise.resolve());
    const code = await world.tidy(everywhere, undefined, at).then(
      () => 'done',
      (error: unknown) => (error instanceof HodError ? error.code : 'killed'),
    );
    expectWhole(world);
    await tidy(world);
    expectWhole(world);
    expect(world.manifestsOf('dev', 'timetable').has(world.digestOf(commits[2] ?? released, 'timetable'))).toBe(false);
    expect(world.manifestsOf('dev', 'timetable').has(world.digestOf(newest, 'timetable'))).toBe(true);
    if (code === 'done') {
      break;
    }
  }
}, 120_000);

test('what somebody tagged by hand after tidying was killed stays, whatever it had claimed', async () => {
  const outcomes = new Set<boolean>();
  for (let at = 1; ; at += 1) {
    const world = await worldBefore(() => Promise.resolve());
    const code = await world.tidy(everywhere, undefined, at).then(
      () => 'done',
      () => 'killed',
    );
    const digest = world.digestOf(commits[2] ?? released, 'timetable');
    const isThere = world.manifestsOf('dev', 'timetable').has(digest);
    if (isThere) {
      world.tagsOf('dev', 'timetable').set('mine' as Tag, digest);
    }
    await tidy(world);
    expectWhole(world);
    expect(world.tagsOf('dev', 'timetable').get('mine' as Tag)).toBe(isThere ? digest : undefined);
    outcomes.add(isThere);
    if (code === 'done') {
      break;
    }
  }
  expect(outcomes).toEqual(new Set([true, false]));
}, 120_000);
