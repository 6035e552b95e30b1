import { startSandboxRegistry } from '../../src/sandbox/registry/router';
import type { Removing, TidyServers } from './tidy-suite';

/** Two stand-ins that remove things in some way. */
export async function standInServers(removing: Removing): Promise<TidyServers> {
  const options = { port: 0, ...(removing === 'both' ? {} : { removes: removing }) };
  const [dev, uat] = await Promise.all([startSandboxRegistry(options), startSandboxRegistry(options)]);
  return {
    dev: dev.port,
    uat: uat.port,
    close: async () => {
      await Promise.all([dev.close(), uat.close()]);
    },
  };
}
