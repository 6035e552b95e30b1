import { startSandboxRegistry } from '../../src/sandbox/registry/router';
import { survivesKills } from '../support/kills';

/** Each round kills a promotion and a rollback; `.ci/run` asks for more. */
const rounds = Number(process.env['HOD_KILL_ROUNDS'] ?? 5);

test('promote and rollback, killed at any moment and run again, end as if nothing had happened', async () => {
  const moments: number[] = [];
  const dev = await startSandboxRegistry({ port: 0 });
  // It takes whatever it is sent, so that a tag above missing content would be found.
  const uat = await startSandboxRegistry({
    port: 0,
    trusting: true,
    onRequest: ({ method, path }) => {
      if (method === 'PUT' && /\/manifests\/(uat|latest|1)$/.test(path)) {
        moments.push(Date.now());
      }
    },
  });
  const { killed, mixed } = await survivesKills({ dev: dev.port, uat: uat.port }, rounds, moments);
  process.stderr.write(`${killed} killed; tags belonged to two releases for ${mixed.join()} ms, undisturbed\n`);
  // Some end before their moment comes.
  expect(killed).toBeGreaterThan(rounds / 2);
  await Promise.all([dev.close(), uat.close()]);
});
