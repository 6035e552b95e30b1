import { ok } from 'node:assert';
import { tagSchema } from '../../src/core/oci/tag';
import { servedIn } from '../../src/core/ledger/environment';
import { parseVersion } from '../../src/core/tags/version';
import { DeliveryWorld, commitId, Killed, type Commit } from '../models/delivery-world';
import { environmentsModel, historyOf, components, steps, waitingIn, worldEnvironments } from '../models/environments';
import { twinsModel } from '../models/twins';
import { testModel } from '../support/models';

testModel(environmentsModel, 5, [
  { seed: 11, path: '108' },
  { seed: 13, path: '19' },
  { seed: 22, path: '149' },
  { seed: 21, path: '49' },
  { seed: 1038 },
  { seed: 100_003 },
  { seed: 100_056 },
  { seed: 247_404_972 },
  { seed: 20_596_453 },
  { seed: 800_080_844 },
  { seed: 1_502_640_816 },
  { seed: 538_437_685 },
  { seed: 1_508_920_405 },
  { seed: 1_643_999_434 },
  { seed: 874_213_765 },
  { seed: 1_079_813_835 },
  { seed: 1_592_409_588 },
  { seed: 2_106_524_823 },
]);

testModel(twinsModel, 5);

test('of what waits, so many releases are followed, and it is said that there are more', async () => {
  const changes = Array.from({ length: 30 }, () => ({
    on: 'main',
    released: true,
    touches: [...components],
    turns: false,
  }));
  const commits = historyOf(changes);
  const world = new DeliveryWorld(commits, worldEnvironments, () => Promise.resolve());
  for (const commit of commits) {
    await world.publish(commit);
  }
  const { releases, more } = waitingIn(world, steps.uat);
  expect([releases.length, more]).toEqual([24, true]);
  expect(releases[0]?.commit).toBe(commits.at(-1)?.id);
});

test('two configurations that share a ledger and the name of a product retire none of the components of the other', async () => {
  const version = (text: string) => ({ kind: 'given' as const, version: parseVersion(text), source: 'git' });
  const of = (at: number, component: string, text: string): Commit => {
    const content = { [component]: `${component} ${at}` };
    return { id: commitId(at), ancestors: new Set<string>(), branch: 'main', version: version(text), content };
  };
  const commits = [of(0, 'timetable', '2.4.0'), of(1, 'tide-watch', '3.0.0'), of(2, 'boarding-gate', '1.0.0')];
  const world = new DeliveryWorld(commits, worldEnvironments, () => Promise.resolve());
  for (const commit of commits) {
    await world.publish(commit);
  }
  expect(servedIn(world.facts, 'dev').map(({ component, version: served }) => `${component} ${served ?? ''}`)).toEqual([
    'timetable 2.4.0',
    'tide-watch 3.0.0',
    'boarding-gate 1.0.0',
  ]);
});

test('of two builds at once, the one that decides last says nothing of a tag that the other is about to write', async () => {
  const commits = historyOf(
    Array.from({ length: 4 }, () => ({ on: 'main', released: false, touches: [...components], turns: false })),
  );
  const [first, second, third, fourth] = commits;
  ok(first !== undefined && second !== undefined && third !== undefined && fourth !== undefined);
  const world = new DeliveryWorld(commits, worldEnvironments, () => Promise.resolve());
  await world.publish(first);
  await publishEntryOf(second, world);
  expect(world.at('main')).toBe(world.digestOf(first, 'timetable'));
  const mainOf = async (commit: Commit) =>
    (await world.decidedBuild(commit))?.decisions.find(({ tag }) => tag === 'main');
  const main = await mainOf(third);
  expect(main).toMatchObject({ outcome: 'moved', reason: `was ${second.id.slice(0, 12)}` });
  expect(main?.unwritten).toBe(true);
  // What somebody moved by hand is told.
  world.tamper('dev', 'timetable', tagSchema.parse('main'), undefined);
  const afterwards = await mainOf(fourth);
  expect([afterwards?.recorded, afterwards?.unwritten]).toEqual([world.digestOf(third, 'timetable'), undefined]);
});

test('a build that finishes late writes a tag for one that is about to write it, and says so', async () => {
  const [first, second, third] = historyOf(
    Array.from({ length: 3 }, () => ({ on: 'main', released: false, touches: [...components], turns: false })),
  );
  ok(first !== undefined && second !== undefined && third !== undefined);
  const world = new DeliveryWorld([first, second, third], worldEnvironments, () => Promise.resolve());
  await world.publish(first);
  await publishEntryOf(third, world);
  const main = (await world.decidedBuild(second))?.decisions.find(({ tag }) => tag === 'main');
  expect(main).toMatchObject({
    outcome: 'restored',
    unwritten: true,
    reason: expect.stringMatching(
      /^another run decided this, and has not written the tag yet; points to .*, which is newer$/,
    ),
  });
  expect(world.at('main')).toBe(world.digestOf(third, 'timetable'));
});

/** Publishes a build as far as its entry: it is about to write its tags. The ledger knows them, and the registry does not. */
async function publishEntryOf(commit: Commit, world: DeliveryWorld): Promise<void> {
  const told = world.entries.length;
  for (let steps = 1; world.entries.length === told; steps += 1) {
    await world.publish(commit, steps).catch((error: unknown) => {
      if (!(error instanceof Killed)) {
        throw error;
      }
    });
  }
}
