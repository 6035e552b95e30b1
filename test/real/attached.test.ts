import { attachedSuite } from '../support/attached-suite';
import { startRealRegistry } from '../support/real-registry';
import { World } from '../support/world';

// The server lists nothing that refers to a manifest: everything goes by tags.
attachedSuite(async () => {
  const [dev, uat, prod] = [await startRealRegistry(), await startRealRegistry(), await startRealRegistry()];
  const world = await World.create({ dev: dev.port, uat: uat.port, prod: prod.port });
  return {
    world,
    close: async () => {
      await Promise.all([dev, uat, prod].map((each) => each.close()));
      await world.remove();
    },
  };
});
