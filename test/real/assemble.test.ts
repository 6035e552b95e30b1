import { mkdir, mkdtemp, rm } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { writeSampleLayout } from '../../src/sandbox/sample/sample-image';
import { layerOf, pack, writeOlderArchive } from '../support/archives';
import { hodFails, hodJson } from '../support/hod';
import { startRealRegistry } from '../support/real-registry';
import { readRepository } from '../support/registry-reader';

test('members from two registries, an archive and an index are one index that resolves completely', async () => {
  const [near, far] = await Promise.all([startRealRegistry(), startRealRegistry()]);
  const folder = await mkdtemp(join(tmpdir(), 'hod-assemble-'));
  const options = { cwd: folder, env: { XDG_CONFIG_HOME: folder } };
  const assemble = (...args: string[]) => hodJson('assemble', ['assemble', ...args], options);
  const place = (port: number, name: string) => `localhost:${port}/skerry/${name}`;
  try {
    const revision = '4'.repeat(40);
    const layout = async (name: string, ...platforms: string[]): Promise<string> => {
      const images = platforms.map((platform) => ({
        platform,
        revision,
        layers: [{ 'app/a': `${name} ${platform}` }],
      }));
      await writeSampleLayout(join(folder, name), images);
      return name;
    };
    await assemble(`${place(near.port, 'parts')}:amd64`, await layout('amd64', 'linux/amd64'));
    const far64 = await assemble(place(far.port, 'parts'), await layout('arm64', 'linux/arm64'));
    await assemble(`${place(far.port, 'others')}:both`, await layout('both', 'linux/ppc64le', 'linux/s390x'));
    await mkdir(join(folder, 'older'));
    const config = {
      architecture: 'riscv64',
      os: 'linux',
      config: { Labels: { 'org.opencontainers.image.revision': revision } },
    };
    await writeOlderArchive(join(folder, 'older'), [{ config, layers: [await layerOf('app', 'a gauge')] }]);
    await pack(join(folder, 'older'), join(folder, 'older.tar.gz'));

    const members = [
      `${place(near.port, 'parts')}:amd64`,
      `${place(far.port, 'parts')}@${far64.digest}`,
      `${place(far.port, 'others')}:both`,
      'linux/riscv64=older.tar.gz',
    ];
    const made = await assemble(
      `${place(near.port, 'all')}:1.0.0`,
      ...members,
      '--require',
      'linux/arm64',
      'linux/s390x',
    );
    expect(made.members.map(({ platform }) => platform)).toEqual([
      'linux/amd64',
      'linux/arm64',
      'linux/ppc64le',
      'linux/riscv64',
      'linux/s390x',
    ]);
    // Everything below it is there, with the bytes that its digests say.
    const served = await readRepository(near.port, 'skerry/all');
    expect(served.tags).toEqual({ '1.0.0': made.digest });
    expect(Object.keys(served.manifests)).toHaveLength(6);
    expect((await assemble(`${place(near.port, 'all')}:1.0.0`, ...[...members].reverse())).digest).toBe(made.digest);

    await hodFails(
      'image-missing',
      ['assemble', `${place(near.port, 'none')}:1`, ...members, `${place(far.port, 'parts')}:gone`],
      options,
    );
    expect((await readRepository(near.port, 'skerry/none')).manifests).toEqual({});
  } finally {
    await Promise.all([near.close(), far.close()]);
    await rm(folder, { recursive: true });
  }
});
