import { readdirSync } from 'node:fs';
import { rm, writeFile } from 'node:fs/promises';
import { join } from 'node:path';
import { setFlagsFromString } from 'node:v8';
import { runInNewContext } from 'node:vm';
import { HodError } from '../../src/core/errors';
import { promote } from '../../src/operations/promote';
import { publish } from '../../src/operations/publish';
import type { InjectedFault } from '../../src/sandbox/registry/faults';
import { startSandboxRegistry } from '../../src/sandbox/registry/router';
import { silent } from '../../src/session/observer';
import { writeLargeLayout } from '../support/large-layer';
import { readRepository } from '../support/registry-reader';
import { sandboxWorld, type SandboxWorld } from '../support/world';

let sandbox: SandboxWorld;
beforeAll(async () => {
  sandbox = await sandboxWorld();
  await writeLargeLayout(join(sandbox.world.product.folder, 'out', 'large'), 5 * 1024 * 1024);
});
afterAll(() => sandbox.close());

setFlagsFromString('--expose-gc');
const collect = runInNewContext('gc') as () => void;

interface Census {
  descriptors: number;
  timers: number;
  /** MiB of objects, and of buffers beside them, after everything that nobody holds was freed. */
  heap: number;
  buffers: number;
}

/** What the process holds, once what has ended is gone. */
async function census(): Promise<Census> {
  // Closed sockets and files are let go of in turns of the loop; the memory of buffers is counted out some turns after the
  // collection that found nobody who holds them.
  for (let round = 0; round < 4; round += 1) {
    for (let turn = 0; turn < 20; turn += 1) {
      await new Promise((resolve) => setImmediate(resolve));
    }
    collect();
  }
  const active = process.getActiveResourcesInfo();
  return {
    descriptors: readdirSync('/proc/self/fd').length,
    timers: active.filter((kind) => kind === 'Timeout').length,
    heap: process.memoryUsage().heapUsed / 1024 / 1024,
    buffers: process.memoryUsage().external / 1024 / 1024,
  };
}

const kinds: InjectedFault[] = [
  { kind: 'reset-request', after: 300_000 },
  { kind: 'status', status: 503 },
  { kind: 'lost-answer' },
  { kind: 'reset-answer', after: 100 },
  { kind: 'expired-upload' },
  { kind: 'stall' },
  { kind: 'corrupt-answer' },
];

/** Publishes and promotes to new registries, of which one request in three fails. Answers how many did. */
async function troubledDay(round: number): Promise<number> {
  let count = round;
  let failed = 0;
  const faults = (): InjectedFault | undefined => {
    count += 1;
    const fault = count % 3 === 0 ? kinds[(count / 3 + round) % kinds.length] : undefined;
    failed += fault === undefined ? 0 : 1;
    return fault;
  };
  const [dev, uat] = await Promise.all([1, 2].map(() => startSandboxRegistry({ port: 0, faults })));
  const config = join(sandbox.world.product.folder, 'leaks.yaml');
  await writeFile(
    config,
    `product: skerry-line
images: { large: { from: out/large }, tide-watch: { from: out/tide-watch } }
environments:
  dev: { repository: "dev.localhost:${dev?.port ?? 0}/s/{image}", tags: { fixed: ["{version}"], moving: ["{branch}"] } }
  uat: { after: dev, repository: "uat.localhost:${uat?.port ?? 0}/s/{image}", tags: { fixed: ["{version}"], moving: [uat] } }
`,
  );
  const patience = { connect: 1000, idle: 100, whole: 2000, retry: 1 };
  try {
    await publish({ config, jobs: 4, patience });
    await promote({ config, jobs: 4, patience, environment: 'uat' });
  } catch (error) {
    if (!(error instanceof HodError)) {
      throw error;
    }
  } finally {
    await Promise.all([dev?.close(), uat?.close()]);
    await rm(join(sandbox.world.product.folder, '.hod'), { recursive: true, force: true });
  }
  return failed;
}

test('200 faults leave no descriptor, no connection, no timer and no memory behind', async () => {
  // Everything that is loaded or kept once is there after some rounds.
  for (let round = 0; round < 3; round += 1) {
    await troubledDay(round);
  }
  const before = await census();
  let faults = 0;
  for (let round = 0; faults < 200; round += 1) {
    faults += await troubledDay(round);
  }
  const after = await census();
  // Some sockets of the last round may still be closing; what is left behind by faults would be many times as much.
  expect(after.descriptors - before.descriptors).toBeLessThan(10);
  expect(after.timers - before.timers).toBeLessThan(10);
  expect(after.heap - before.heap).toBeLessThan(4);
  // Each fault holds a buffer of a quarter of a MiB at least while it happens: 200 of them would be 50.
  expect(after.buffers - before.buffers).toBeLessThan(24);
});

test.each([
  ['reset-answer', 12],
  ['reset-request', 12],
  // All of it is in buffers of the connection before the first cut.
  ['reset-request', 2],
] as const)(
  'ten cuts (%s) of a blob of %s MiB that is copied are gone on from where it broke off, and leave nothing open',
  async (kind, mebibytes) => {
    const cuts = 10;
    const size = mebibytes * 1024 * 1024;
    await writeLargeLayout(join(sandbox.world.product.folder, 'out', 'cut'), size);
    let cut = 0;
    let received = 0;
    const cutting = (method: string): InjectedFault | undefined => {
      const isCut = method === (kind === 'reset-answer' ? 'GET' : 'PATCH') && armed && cut < cuts;
      cut += isCut ? 1 : 0;
      return isCut ? { kind, after: size / (cuts + 2) } : undefined;
    };
    let armed = false;
    const isBlob = (path: string): boolean => path.includes('/blobs/') && !path.includes('manifests');
    const faults = ({ method, path }: { method: string; path: string }) => (isBlob(path) ? cutting(method) : undefined);
    const dev = await startSandboxRegistry({ port: 0, faults });
    const uat = await startSandboxRegistry({
      port: 0,
      faults,
      onRequest: (request) => void (received += isBlob(request.path) ? request.received : 0),
    });
    const config = join(sandbox.world.product.folder, 'cuts.yaml');
    const places = (name: string, port: number): string => `repository: "${name}.localhost:${port}/s/{image}"`;
    await writeFile(
      config,
      `product: skerry-line
images: { cut: { from: out/cut } }
environments:
  dev: { ${places('dev', dev.port)}, tags: { fixed: ["{version}"], moving: ["{branch}"] } }
  uat: { after: dev, ${places('uat', uat.port)}, tags: { fixed: ["{version}"], moving: [uat] } }
`,
    );
    const patience = { connect: 1000, idle: 1000, whole: 20_000, retry: 1 };
    await publish({ config, patience });
    armed = true;
    const open: number[] = [];
    const transfer = {
      ...silent.transfer,
      sent: () => void open.push(readdirSync('/proc/self/fd').length),
    };
    const { components } = await promote({ config, patience, environment: 'uat', observer: { ...silent, transfer } });
    expect(components[0]?.digest).toBe((await readRepository(uat.port, 's/cut')).tags['uat']);
    expect(cut).toBe(cuts);
    expect(received).toBeLessThan(1.1 * size);
    // What a cut leaves would add up: ten of anything more at the end than at the beginning.
    expect(open.at(-1)).toBeLessThan((open[0] ?? 0) + cuts / 2);
    await Promise.all([dev.close(), uat.close()]);
    await rm(join(sandbox.world.product.folder, '.hod'), { recursive: true, force: true });
  },
);
