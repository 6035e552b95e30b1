import { mkdtemp, open, rm } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import type { InjectedFault } from '../../src/sandbox/registry/faults';
import { hod } from '../support/hod';
import { writeLargeLayout } from '../support/large-layer';
import { sandboxWorld } from '../support/world';

const size = 5 * 1024 * 1024;

let folder: string;
beforeEach(async () => (folder = await mkdtemp(join(tmpdir(), 'hod-registry-'))));
afterEach(() => rm(folder, { recursive: true, force: true }));

describe.each([
  { kind: 'checks what it is sent', trusting: false },
  { kind: 'takes what it is sent', trusting: true },
])('a registry that $kind', ({ trusting }) => {
  /** One image with a large layer, and registries whose blobs go wrong as `faults` says. */
  async function largeWorld(faults?: (path: string) => InjectedFault | undefined) {
    const sandbox = await sandboxWorld({
      folder,
      trusting,
      faults: ({ method, path }) => (method === 'GET' ? faults?.(path) : undefined),
    });
    const { world } = sandbox;
    await world.configure('from: [out/timetable-amd64, out/timetable-arm64.tar]', 'from: out/large');
    await world.configure('platforms: [linux/amd64, linux/arm64]', 'platforms: [linux/amd64]');
    const layer = await writeLargeLayout(join(world.product.folder, 'out', 'large'), size);
    return { ...sandbox, layer, file: join(world.product.folder, 'out', 'large', 'blobs', layer.replace(':', '/')) };
  }

  /** Flips a bit of a file. */
  async function spoil(file: string): Promise<void> {
    const handle = await open(file, 'r+');
    const { buffer } = await handle.read(Buffer.alloc(1), 0, 1, size / 2);
    await handle.write(Buffer.from([(buffer[0] ?? 0) ^ 1]), 0, 1, size / 2);
    await handle.close();
  }

  test('is told of, tags nothing that is corrupt where it was built, and takes it when it is mended', async () => {
    const { world, layer, file, close } = await largeWorld();
    await spoil(file);
    const { object } = await world.fails('content-corrupt', 'publish');
    expect(object).toContain(layer);
    expect((await world.served('dev'))['timetable']?.tags).toEqual({});
    await spoil(file);
    const run = await hod(['publish', '--verbose'], world.options);
    expect(run).toMatchObject({ code: 0 });
    expect(run.stderr.includes('checks what it is sent: blobs go there without a hash of ours')).toBe(!trusting);
    expect((await world.served('dev'))['timetable']?.blobs).toContain(layer);
    await close();
  });

  test('gets what was damaged on the way once more, or nothing', async () => {
    let damaged = 0;
    const { world, layer, close } = await largeWorld((path) => {
      const isHit = path.endsWith(wanted) && damaged === 0;
      damaged += isHit ? 1 : 0;
      return isHit ? { kind: 'corrupt-answer' } : undefined;
    });
    const wanted = layer;
    await world.publish();
    if (trusting) {
      await world.fails('content-corrupt', 'promote', 'uat');
      expect((await world.served('uat'))['timetable']?.tags).toEqual({});
    }
    await world.promote('uat');
    expect(damaged).toBe(1);
    expect((await world.served('uat'))['timetable']?.blobs).toContain(layer);
    await close();
  });
});
