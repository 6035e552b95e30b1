import { digestOf, historyOf, orderModel, versionsModel, worldOf } from '../models/order';
import { Killed, type DeliveryWorld } from '../models/delivery-world';
import { testModel } from '../support/models';

testModel(orderModel, 20, [
  { seed: 22, path: '66' },
  { seed: 2, path: '15' },
  { seed: 2_049_854_749, path: '3' },
]);
testModel(versionsModel, 20);

test('a newer build between any two steps of an older one that is killed at any later step: run again, all is right', async () => {
  const [older, newer] = historyOf([{ kind: 'commit', on: 0 }]);
  if (older === undefined || newer === undefined) {
    throw new Error('the history is too short');
  }
  let count = 0;
  await worldOf([older, newer], () => Promise.resolve((count += 1))).publish(older);
  const total = count;
  expect(total).toBeGreaterThan(10);
  for (let between = 1; between <= total; between += 1) {
    for (let killed = between; killed <= total + 2; killed += 1) {
      let step = 0;
      let meanwhile: Promise<unknown> | undefined;
      const world: DeliveryWorld = worldOf([older, newer], async () => {
        step += 1;
        if (step === between) {
          await (meanwhile = world.publish(newer));
        }
      });
      await world.publish(older, killed).catch((error: unknown) => {
        if (!(error instanceof Killed)) {
          throw error;
        }
      });
      await world.publish(older);
      await meanwhile;
      const found = [world.at('main'), world.at(`c-${older.id.slice(0, 12)}`), world.at(`c-${newer.id.slice(0, 12)}`)];
      expect({ between, killed, found }).toEqual({
        between,
        killed,
        found: [digestOf(world, newer), digestOf(world, older), digestOf(world, newer)],
      });
      expect(world.entries).toHaveLength(2);
    }
  }
});
