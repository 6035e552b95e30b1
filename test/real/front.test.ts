import { mkdtemp, readdir, rm, writeFile } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { startSandboxRegistry } from '../../src/sandbox/registry/router';
import { startFront, type Front, type FrontOptions } from '../support/front';
import { hod, hodFails, hodJson } from '../support/hod';
import { writeLargeLayout } from '../support/large-layer';
import { startRealRegistry } from '../support/real-registry';
import { readRepository } from '../support/registry-reader';

const MiB = 1024 * 1024;
const publishing = ['publish', '--commit', 'a'.repeat(40), '--version', '1.0.0', '--branch', 'main'];

let folder: string;
const closing: (() => Promise<unknown>)[] = [];
beforeEach(async () => (folder = await mkdtemp(join(tmpdir(), 'hod-front-'))));
afterEach(async () => {
  for (const close of closing.splice(0).reverse()) {
    await close();
  }
  await rm(folder, { recursive: true, force: true });
});

/** A product of one image with one layer, and a front that it goes through. */
async function startProduct(options: FrontOptions, layer: number): Promise<Front> {
  const front = await startFront(folder, options);
  closing.push(front.close);
  await writeLargeLayout(join(folder, 'out'), layer);
  await writeFile(
    join(folder, 'hod.yaml'),
    `product: skerry-line
images: { timetable: { from: out } }
environments: { dev: { repository: "${front.host}/skerry/{image}", tags: { fixed: ["{version}"], moving: [] } } }
registries: { "${front.host}": { tls: { ca: ${front.authority} } } }
`,
  );
  return front;
}

async function startReal(): Promise<{ port: number; readPort: number }> {
  const registry = await startRealRegistry();
  closing.push(registry.close);
  return registry;
}

test.each([
  { limit: '100m', layer: 120 * MiB, refusals: 1 },
  { limit: '10m', layer: 30 * MiB, refusals: 2 },
  // Less than what is held in memory goes up in pieces too.
  { limit: '1m', layer: 9 * MiB, refusals: 4 },
  { limit: '700k', layer: MiB, refusals: 1 },
])('in front, $limit are the most of a request: $layer bytes arrive in pieces', async ({ limit, layer, refusals }) => {
  const registry = await startReal();
  await startProduct({ target: registry.port, limit }, layer);
  const run = await hod([...publishing, '--verbose'], { cwd: folder });
  expect(run.code === 0 ? '' : run.stderr).toBe('');
  const refused = run.stderr.split('\n').filter((line) => / 413 \d+ ms/.test(line));
  expect(refused.length).toBeGreaterThan(0);
  expect(refused.length).toBeLessThanOrEqual(refusals);
  expect(Object.keys((await readRepository(registry.readPort, 'skerry/timetable')).tags)).toEqual(['1.0.0']);
  // Nothing is remembered of an upload that is over.
  expect(await readdir(join(folder, '.hod', 'uploads'))).toEqual([]);
});

test('a front that lets through less than a manifest may need is named, and nothing is tagged', async () => {
  const registry = await startReal();
  const front = await startProduct({ target: registry.port, limit: '20k' }, 2 * MiB);
  const error = await hodFails('request-too-large', publishing, { cwd: folder });
  expect(error).toMatchObject({ exitCode: 6, why: expect.stringMatching(/65536 bytes in one request \(413\)/) });
  expect(error.why).toContain(front.host);
  expect((await readRepository(registry.readPort, 'skerry/timetable')).tags).toEqual({});
});

test('a gateway that gives up on a registry that still works is waited for by asking: no byte is sent twice', async () => {
  let ends = 0;
  let received = 0;
  const registry = await startSandboxRegistry({
    port: 0,
    faults: ({ method, path }) => {
      // What follows the chunks ends the upload; the first one ends the probe, and the last one is the record of the release.
      const isEnd = method === 'PUT' && path.includes('/blobs/uploads/');
      ends += isEnd ? 1 : 0;
      return isEnd && ends === 3 ? { kind: 'late', milliseconds: 2_500 } : undefined;
    },
    onRequest: (request) => {
      if (request.path.includes('/blobs/uploads/')) {
        received += request.received;
      }
    },
  });
  closing.push(registry.close);
  const layer = 40 * MiB;
  await startProduct({ target: registry.port, limit: '0', patience: 1 }, layer);
  const run = await hod([...publishing, '--verbose'], { cwd: folder });
  expect(run.code === 0 ? '' : run.stderr).toBe('');
  expect(run.stderr).toMatch(/PUT \S+ 504 /);
  expect(ends).toBe(4);
  expect(received).toBeLessThan(layer + MiB);
  await hodJson('publish', publishing, { cwd: folder });
});
