import { mkdir } from 'node:fs/promises';
import { join } from 'node:path';
import { hodFails } from '../support/hod';
import { sandboxWorld, type SandboxWorld } from '../support/world';

let sandbox: SandboxWorld;
beforeEach(async () => (sandbox = await sandboxWorld()));
afterEach(() => sandbox.close());

/** Publishes with the ledger's folder on a small file system of its own, prepared by shell commands. */
async function publishOn(prepare: string) {
  const { world } = sandbox;
  const folder = join(world.product.folder, '.hod');
  await mkdir(folder);
  const script = `mount -t tmpfs -o size=256k tmpfs '${folder}' && cd '${folder}' && ${prepare} && cd '${world.product.folder}' && exec "$@"`;
  const through = ['unshare', '--mount', '--map-root-user', 'sh', '-c', script, 'sh'];
  const error = await hodFails('ledger-unavailable', ['publish'], { ...world.options, through });
  expect(error.object).toBe(join(folder, 'ledger.db'));
  expect(error.next).toContain('nothing was tagged');
  for (const { tags } of Object.values(await world.served('dev'))) {
    expect(tags).toEqual({});
  }
  return error;
}

test('a disk that is full: exit 6, and nothing is tagged', async () => {
  expect((await publishOn('(cat /dev/zero > filler 2>/dev/null || true)')).why).toBe('the disk is full');
});

test('a disk that fills up while the ledger is written: exit 6, and nothing is tagged', async () => {
  // Room for the empty ledger and its index of what is being written, and for little more.
  await publishOn('(head -c 184320 /dev/zero > filler)');
  expect(sandbox.requests.dev.some(({ method }) => method === 'PUT')).toBe(true);
});

test('a disk that is read-only: exit 6, and nothing is tagged', async () => {
  expect((await publishOn(`mount -o remount,ro .`)).why).toContain('read-only');
});
