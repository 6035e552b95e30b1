import { platformTagsSuite } from '../support/platform-tags-suite';
import { sandboxWorld } from '../support/world';

platformTagsSuite('stand-ins', true, () => sandboxWorld());

test('an environment needs a tag for the whole image beside those of its platforms', async () => {
  const { world, close } = await sandboxWorld();
  await world.configure('fixed: ["{version}"], moving: [uat]', 'fixed: ["{version}-{platform}"]');
  const { why } = await world.fails('config-invalid', 'config', 'check');
  expect(why).toMatch(/hod\.yaml:\d+:\d+: .*every rule has \{platform\}; add one without it/);
  await close();
});
