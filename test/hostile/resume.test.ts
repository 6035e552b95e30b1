import { mkdtemp, readdir, rm, stat } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { setTimeout as delay } from 'node:timers/promises';
import type { InjectedFault } from '../../src/sandbox/registry/faults';
import { hod, hodJson } from '../support/hod';
import { writeLargeLayout } from '../support/large-layer';
import { sandboxWorld } from '../support/world';

/** `.ci/run` asks for 1 GiB. */
const size = Number(process.env['HOD_RESUME_BYTES'] ?? 100 * 1024 * 1024);
const MiB = 1024 * 1024;

let folder: string;
beforeEach(async () => (folder = await mkdtemp(join(tmpdir(), 'hod-registry-'))));
afterEach(() => rm(folder, { recursive: true, force: true }));

async function largeWorld(faults?: () => InjectedFault | undefined) {
  const sandbox = await sandboxWorld({ folder, faults: ({ method }) => (method === 'PATCH' ? faults?.() : undefined) });
  const { world } = sandbox;
  await world.configure('from: [out/timetable-amd64, out/timetable-arm64.tar]', 'from: out/large');
  await world.configure('platforms: [linux/amd64, linux/arm64]', 'platforms: [linux/amd64]');
  const layer = await writeLargeLayout(join(world.product.folder, 'out', 'large'), size);
  /** Bytes of blobs that reached the registry, whatever became of them. */
  const received = (): number =>
    sandbox.requests.dev
      .filter(({ path }) => path.includes('/blobs/uploads/'))
      .reduce((sum, each) => sum + each.received, 0);
  const arrived = async (): Promise<void> => {
    expect((await stat(join(folder, 'blobs', layer.replace(':', '-')))).size).toBe(size);
    expect(received()).toBeLessThan(1.1 * size);
  };
  return { ...sandbox, arrived };
}

test('an upload whose connection is cut ten times sends hardly more than its bytes', async () => {
  let cuts = 0;
  const { world, close, arrived } = await largeWorld(() => {
    cuts += 1;
    return cuts > 10 ? undefined : { kind: 'reset-request', after: Math.floor(size / 12) };
  });
  await world.publish();
  expect(cuts).toBeGreaterThan(10);
  await arrived();
  await close();
});

test('a process that is killed five times sends hardly more than its bytes, and leaves nothing behind', async () => {
  const { world, close, arrived } = await largeWorld();
  const uploaded = async (): Promise<number> => {
    const names = await readdir(join(folder, 'uploads')).catch(() => []);
    const sizes = await Promise.all(
      names.map((name) =>
        stat(join(folder, 'uploads', name)).then(
          (each) => each.size,
          () => 0,
        ),
      ),
    );
    return Math.max(0, ...sizes);
  };
  for (let kill = 1; kill <= 5; kill += 1) {
    const enough = Math.min((kill * size) / 6, size - 8 * MiB);
    const run = await hod(['publish'], {
      ...world.options,
      started: (child) => {
        void (async () => {
          while (child.exitCode === null && (await uploaded()) < enough) {
            await delay(5);
          }
          child.kill('SIGKILL');
        })();
      },
    });
    expect(run.code).toBeNull();
  }
  await hodJson('publish', ['publish'], world.options);
  await arrived();
  expect(await readdir(join(world.product.folder, '.hod', 'uploads'))).toEqual([]);
  await close();
});
