import { mkdtemp, rm } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { startSandboxRegistry } from '../../src/sandbox/registry/router';
import { proveSuite } from '../support/prove-suite';
import { World } from '../support/world';

proveSuite(async () => {
  const folder = await mkdtemp(join(tmpdir(), 'hod-tampered-'));
  const start = (name: string) => startSandboxRegistry({ port: 0, folder: join(folder, name) });
  const running = { dev: await start('dev'), uat: await start('uat'), prod: await start('prod') };
  const world = await World.create({ dev: running.dev.port, uat: running.uat.port, prod: running.prod.port });
  return {
    world,
    blobFile: (environment, digest) => join(folder, environment, 'blobs', digest.replace(':', '-')),
    close: async () => {
      await Promise.all(Object.values(running).map((each) => each.close()));
      await Promise.all([world.remove(), rm(folder, { recursive: true })]);
    },
  };
});
