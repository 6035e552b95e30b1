import { mkdtemp, readFile, rm } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join, resolve } from 'node:path';
import { sandboxWorld } from '../support/world';
import { writeLargeLayout } from '../support/large-layer';

/** `.ci/run` asks for more: what is held in memory does not depend on it. */
const layerSize = Number(process.env['HOD_MEMORY_BYTES'] ?? 256 * 1024 ** 2);

test(`a layer of ${layerSize} bytes goes up, and on to another registry, in less than 160 MB of memory`, async () => {
  const folder = await mkdtemp(join(tmpdir(), 'hod-registry-'));
  const { world, close } = await sandboxWorld({ folder });
  try {
    await world.configure('from: [out/timetable-amd64, out/timetable-arm64.tar]', 'from: out/large');
    await world.configure('platforms: [linux/amd64, linux/arm64]', 'platforms: [linux/amd64]');
    const layer = await writeLargeLayout(join(world.product.folder, 'out', 'large'), layerSize);
    const peakFile = join(world.folder, 'peak');
    world.env = {
      HOD_PEAK_FILE: peakFile,
      NODE_OPTIONS: `--require=${resolve(__dirname, '../support/peak-memory.cjs')}`,
    };
    for (const work of [() => world.publish(), () => world.promote('uat')]) {
      const { components } = await work();
      expect(components[0]?.transfer.bytesSent).toBeGreaterThan(layerSize);
      expect(Number(await readFile(peakFile, 'utf8'))).toBeLessThan(160e6);
    }
    expect((await world.served('uat'))['timetable']?.blobs).toContain(layer);
  } finally {
    await close();
    await rm(folder, { recursive: true, force: true });
  }
});
