import { execFileSync } from 'node:child_process';
import { mkdtemp, readdir, readFile, rm } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join, resolve } from 'node:path';
import { hod, hodJson } from '../support/hod';
import { readRepository } from '../support/registry-reader';
import { sandboxWorld } from '../support/world';
import { writeLargeLayout } from '../support/large-layer';

/** `.ci/run` asks for more: what is held in memory does not depend on it. */
const layerSize = Number(process.env['HOD_MEMORY_BYTES'] ?? 256 * 1024 ** 2);

test(`a layer of ${layerSize} bytes goes up, on to another registry, and through parcels and pipes, in less than 160 MB of memory`, async () => {
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
    const expectSmall = async (): Promise<void> => {
      expect(Number(await readFile(peakFile, 'utf8'))).toBeLessThan(160e6);
    };
    for (const work of [() => world.publish(), () => world.promote('uat')]) {
      const { components } = await work();
      expect(components[0]?.transfer.bytesSent).toBeGreaterThan(layerSize);
      await expectSmall();
    }
    const packed = await hodJson('pack', ['pack', 'uat', '--out', 'large.tar'], world.options);
    expect(packed.size).toBeGreaterThan(layerSize);
    await expectSmall();
    const zstd = `NODE_OPTIONS= '${process.execPath}' '${resolve(__dirname, '../support/raw-zstd.cjs')}'`;
    for (const [tag, pipe] of Object.entries({ plain: 'cat', gzip: 'gzip -1 -c', zstd })) {
      const target = world.repository('prod', `${tag}:1.0.0`);
      const through = ['sh', '-c', `${pipe} < large.tar | "$@"`, 'sh'];
      expect(await hod(['carry', '--', '-#timetable', target], { ...world.options, through })).toMatchObject({
        code: 0,
      });
      await expectSmall();
    }
    expect((await readRepository(world.ports.prod, 'skerry/gzip')).blobs).toContain(layer);
    // Nothing that was kept for a while is left.
    expect((await readdir(world.product.folder)).filter((name) => name.startsWith('.'))).toEqual([
      '.git',
      '.gitignore',
      '.hod',
    ]);
    expect(execFileSync('du', ['-sm', '.hod'], { cwd: world.product.folder, encoding: 'utf8' })).toMatch(/^[1-9]\t/);
    expect((await world.served('uat'))['timetable']?.blobs).toContain(layer);
  } finally {
    await close();
    await rm(folder, { recursive: true, force: true });
  }
});
