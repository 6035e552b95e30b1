import { DeliveryWorld } from '../models/delivery-world';
import { environmentsModel, historyOf, components, steps, waitingIn, worldEnvironments } from '../models/environments';
import { testModel } from '../support/models';

testModel(environmentsModel, 40, [
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
]);

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
