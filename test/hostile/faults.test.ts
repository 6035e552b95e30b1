import fc from 'fast-check';
import { rm, writeFile } from 'node:fs/promises';
import { join } from 'node:path';
import { HodError } from '../../src/core/errors';
import { promote } from '../../src/operations/promote';
import { publish } from '../../src/operations/publish';
import { startSandboxRegistry } from '../../src/sandbox/registry/router';
import type { InjectedFault } from '../../src/sandbox/registry/faults';
import { writeLargeLayout } from '../support/large-layer';
import { readRepository, type Served } from '../support/registry-reader';
import { sandboxWorld, type SandboxWorld } from '../support/world';

const names = ['large', 'tide-watch'];
/** `.ci/run` asks for many. */
const schedules = Number(process.env['HOD_SCHEDULES'] ?? 30);
const patience = { connect: 1000, idle: 250, whole: 5_000, retry: 1 };

let sandbox: SandboxWorld;
beforeAll(async () => {
  sandbox = await sandboxWorld();
  await writeLargeLayout(join(sandbox.world.product.folder, 'out', 'large'), 5 * 1024 * 1024);
});
afterAll(() => sandbox.close());

const fault: fc.Arbitrary<InjectedFault> = fc.oneof(
  fc.record({ kind: fc.constant('status' as const), status: fc.constantFrom(429, 500, 502, 503) }),
  fc.record({ kind: fc.constant('reset-request' as const), after: fc.nat(5 * 1024 * 1024) }),
  fc.record({ kind: fc.constant('reset-answer' as const), after: fc.nat(100_000) }),
  fc.constantFrom<InjectedFault>(
    { kind: 'corrupt-answer' },
    { kind: 'stall' },
    { kind: 'lost-answer' },
    { kind: 'expired-upload' },
    { kind: 'no-mount' },
  ),
);
/** Some faults here and there; runs of them are as likely as single ones. */
const troubles = fc.array(fc.record({ at: fc.nat(60), faults: fc.array(fault, { minLength: 1, maxLength: 8 }) }), {
  maxLength: 4,
});
/** A server that is gone for longer than anybody waits. */
const outage = fc.nat(40).map((at) => [{ at, faults: Array<InjectedFault>(60).fill({ kind: 'status', status: 503 }) }]);
/** What goes wrong, by the number of the request. */
const schedule = fc
  .oneof({ weight: 5, arbitrary: troubles }, { weight: 1, arbitrary: outage })
  .map((parts) => new Map(parts.flatMap(({ at, faults }) => faults.map((each, index) => [at + index, each]))));

/** Two registries, the second with another host name so that content has to be sent. */
async function startRegistries(faults: Map<number, InjectedFault>, trusting: boolean) {
  let count = 0;
  const options = { port: 0, trusting, faults: () => faults.get(count++) };
  const [dev, uat] = await Promise.all([startSandboxRegistry(options), startSandboxRegistry(options)]);
  const read = async (port: number): Promise<Record<string, Served>> => {
    const all: Record<string, Served> = {};
    for (const name of names) {
      all[name] = await readRepository(port, `skerry/${name}`);
    }
    return all;
  };
  return {
    hosts: { dev: `dev.localhost:${dev.port}`, uat: `uat.localhost:${uat.port}` },
    /** Everything both serve, read through and through. Throws where a tag is incomplete. */
    served: async () => {
      faults.clear();
      return { dev: await read(dev.port), uat: await read(uat.port) };
    },
    close: () => Promise.all([dev.close(), uat.close()]),
  };
}

async function configure({ dev, uat }: { dev: string; uat: string }): Promise<string> {
  const config = join(sandbox.world.product.folder, 'faults.yaml');
  const text = `product: skerry-line
images: { large: { from: out/large }, tide-watch: { from: out/tide-watch } }
environments:
  dev: { repository: "${dev}/skerry/{image}", tags: { fixed: ["{version}"], moving: ["{branch}"] } }
  uat: { after: dev, repository: "${uat}/skerry/{image}", tags: { fixed: ["{version}"], moving: [uat] } }
`;
  await writeFile(config, text);
  return config;
}

test(`${schedules} random schedules of faults: complete and byte-identical, or a clear error and nothing incomplete`, async () => {
  const day = async (config: string): Promise<void> => {
    await publish({ config, jobs: 4, patience });
    await promote({ config, jobs: 4, patience, environment: 'uat' });
  };
  const state = join(sandbox.world.product.folder, '.hod');
  const quiet = await startRegistries(new Map(), false);
  await day(await configure(quiet.hosts));
  const undisturbed = await quiet.served();
  await quiet.close();
  await rm(state, { recursive: true });

  const ends = new Map<string, number>();
  await fc.assert(
    // Where a registry takes what it is sent unseen, nobody but Hod checks it.
    fc.asyncProperty(schedule, fc.boolean(), async (faults, trusting) => {
      const registries = await startRegistries(faults, trusting);
      try {
        const config = await configure(registries.hosts);
        let end = 'complete';
        try {
          await day(config);
        } catch (error) {
          if (!(error instanceof HodError)) {
            throw error;
          }
          end = error.fault;
          expect([5, 6, 7]).toContain(error.exitCode);
          expect(error.problem.next).toEqual(expect.any(String));
        }
        ends.set(end, (ends.get(end) ?? 0) + 1);
        // Reading checks that whatever is tagged is complete.
        const served = await registries.served();
        if (end !== 'complete') {
          await day(config);
        }
        expect(end === 'complete' ? served : await registries.served()).toEqual(undisturbed);
      } finally {
        await registries.close();
        await rm(state, { recursive: true, force: true });
      }
    }),
    { numRuns: schedules, endOnFailure: true },
  );
  // Both kinds of end must have been seen for this to mean anything.
  expect(ends.get('complete')).toBeGreaterThan(schedules / 10);
  expect(ends.size).toBeGreaterThan(1);
}, 1_500_000);
