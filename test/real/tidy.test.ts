import { startRealRegistry } from '../support/real-registry';
import { tidySuite } from '../support/tidy-suite';

tidySuite('real servers', ['manifests', 'none'], async (removing) => {
  const start = () => startRealRegistry({ removes: removing === 'manifests' });
  const [dev, uat] = await Promise.all([start(), start()]);
  return {
    dev: dev.port,
    uat: uat.port,
    collect: async () => {
      await Promise.all([dev.collect(), uat.collect()]);
    },
    close: async () => {
      await Promise.all([dev.close(), uat.close()]);
    },
  };
});
