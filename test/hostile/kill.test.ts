import fc from 'fast-check';
import { rm } from 'node:fs/promises';
import { join } from 'node:path';
import { openSqliteLedger } from '../../src/ledger/engines/sqlite';
import type { LoggedRequest } from '../../src/sandbox/registry/options';
import { startSandboxRegistry } from '../../src/sandbox/registry/router';
import { hod, hodJson } from '../support/hod';
import { all } from '../support/ledger-suite';
import { OtherClient } from '../support/other-client';
import { readRepository, type Served } from '../support/registry-reader';
import { components, sandboxWorld, type SandboxWorld } from '../support/world';

/** `.ci/run` asks for more. */
const runs = 2 * Number(process.env['HOD_KILL_ROUNDS'] ?? 5);

let sandbox: SandboxWorld;
beforeAll(async () => (sandbox = await sandboxWorld()));
afterAll(() => sandbox.close());

/** A registry that takes whatever it is sent, read through and through at every moment a tag was written. */
async function watchedRegistry(port: number, seen: (request: LoggedRequest) => void) {
  const incomplete: string[] = [];
  const looks: Promise<void>[] = [];
  const look = async (): Promise<void> => {
    try {
      await readAll(registry.port);
    } catch (error) {
      incomplete.push(String(error));
    }
  };
  const registry = await startSandboxRegistry({
    port,
    trusting: true,
    onRequest: (request) => {
      seen(request);
      if (request.method === 'PUT' && /\/manifests\/(?!sha256:)/.test(request.path)) {
        looks.push(look());
      }
    },
  });
  return {
    ...registry,
    incomplete: async () => {
      await Promise.all([...looks, look()]);
      return incomplete;
    },
  };
}

async function readAll(port: number): Promise<Record<string, Served>> {
  const all: Record<string, Served> = {};
  for (const component of components) {
    all[component] = await readRepository(port, `skerry/${component}`);
  }
  return all;
}

test('killed at any moment and run again, publish ends as if nothing had happened, and no tag was ever incomplete', async () => {
  const { world } = sandbox;
  const ledgerFolder = join(world.product.folder, '.hod');
  // What an undisturbed run leaves, how many requests it takes, and how long.
  const begun = Date.now();
  await world.publish();
  const duration = Date.now() - begun;
  const undisturbed = await world.served('dev');
  const total = sandbox.requests.dev.filter(({ path }) => path !== '/v2/').length;
  await rm(ledgerFolder, { recursive: true });

  const moment = fc.oneof(
    fc.record({ atRequest: fc.integer({ min: 1, max: total }) }),
    fc.record({ afterMilliseconds: fc.integer({ min: 0, max: duration }) }),
  );
  let killed = 0;
  await fc.assert(
    fc.asyncProperty(moment, async (when) => {
      let requests = 0;
      let kill: () => void = () => undefined;
      const registry = await watchedRegistry(0, () => {
        requests += 1;
        if ('atRequest' in when && requests === when.atRequest) {
          kill();
        }
      });
      const config = join(world.product.folder, 'killed.yaml');
      await world.writeConfig(config, { dev: `dev.localhost:${registry.port}` });
      const first = await hod(['publish', '--config', config], {
        ...world.options,
        started: (child) => {
          kill = () => child.kill('SIGKILL');
          if ('afterMilliseconds' in when) {
            setTimeout(kill, when.afterMilliseconds);
          }
        },
      });
      killed += first.code === null ? 1 : 0;
      await hodJson('publish', ['publish', '--config', config], world.options);
      expect(await registry.incomplete()).toEqual([]);
      expect(await readAll(registry.port)).toEqual(undisturbed);
      const ledger = await openSqliteLedger({
        file: join(ledgerFolder, 'ledger.db'),
        product: 'skerry-line',
        access: 'read',
        waiting: () => undefined,
      });
      const entries = await all(ledger.entries());
      await ledger.close();
      expect(entries).toHaveLength(1);
      await registry.close();
      await rm(ledgerFolder, { recursive: true });
    }),
    { numRuns: runs, endOnFailure: true },
  );
  // Most of them must really have been cut short for this to mean anything.
  expect(killed).toBeGreaterThan(runs / 2);
});

test('killed at any request and run again, carry leaves what an undisturbed run leaves, and no tag was ever incomplete', async () => {
  const { world } = sandbox;
  await world.publish();
  const dev = new OtherClient(world.ports.dev, 'skerry/timetable');
  await dev.attach(await dev.subject('2.4.0'), 'application/vnd.skerry.report', 'all well');
  const source = world.repository('dev', 'timetable:2.4.0');
  const carry = (port: number): string[] => ['carry', source, `copy.localhost:${port}/skerry/timetable`];
  let total = 0;
  const first = await watchedRegistry(0, () => (total += 1));
  await hodJson('carry', carry(first.port), world.options);
  const undisturbed = await readRepository(first.port, 'skerry/timetable');
  await first.close();
  let killed = 0;
  for (let at = 1; at <= total; at += Math.max(1, Math.floor(total / runs))) {
    let requests = 0;
    let kill: () => void = () => undefined;
    const registry = await watchedRegistry(0, () => {
      requests += 1;
      if (requests === at) {
        kill();
      }
    });
    const run = await hod(carry(registry.port), {
      ...world.options,
      started: (child) => (kill = () => child.kill('SIGKILL')),
    });
    killed += run.code === null ? 1 : 0;
    const { tags } = await readRepository(registry.port, 'skerry/timetable');
    expect([{}, undisturbed.tags]).toContainEqual(tags);
    await hodJson('carry', carry(registry.port), world.options);
    expect(await registry.incomplete()).toEqual([]);
    expect(await readRepository(registry.port, 'skerry/timetable')).toEqual(undisturbed);
    await registry.close();
  }
  expect(killed).toBeGreaterThan(runs / 2);
});
