import { startRealRegistry, type RealRegistryOptions } from './real-registry';
import type { TamperedWorld } from './prove-suite';
import { World } from './world';

/** The sample product, and three real registry servers for it. */
export async function realWorld(options: RealRegistryOptions = {}): Promise<TamperedWorld> {
  const [dev, uat, prod] = await Promise.all([
    startRealRegistry(options),
    startRealRegistry(options),
    startRealRegistry(options),
  ]);
  const all = { dev, uat, prod };
  const world = await World.create({ dev: dev.port, uat: uat.port, prod: prod.port });
  return {
    world,
    blobFile: (environment, digest) => all[environment].blobFile(digest),
    close: async () => {
      await Promise.all(Object.values(all).map((each) => each.close()));
      await world.remove();
    },
  };
}
