import { variantsSuite } from '../support/variants-suite';
import { sandboxWorld } from '../support/world';

variantsSuite('stand-ins', () => sandboxWorld());

test('components whose tags could meet are refused, with a tag that both could have', async () => {
  const { world, close } = await sandboxWorld();
  await world.configure(`${world.host('uat')}/skerry/{image}`, `${world.host('uat')}/skerry/line`);
  expect((await world.fails('config-invalid', 'config', 'check')).why).toMatch(
    /hod\.yaml:\d+:\d+: timetable and boarding-gate would share this repository, and by the rule \{version\} both could have the tag 0\.0\.0; put \{image\} into the repository/,
  );
  await close();
});
