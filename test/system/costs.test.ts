import { chmod, mkdir, readFile, rm, writeFile } from 'node:fs/promises';
import { execFileSync } from 'node:child_process';
import { join } from 'node:path';
import { sha256 } from '../../src/core/oci/digest';
import { environments, sandboxWorld, type SandboxWorld } from '../support/world';

let sandbox: SandboxWorld;
let bin: string;
beforeAll(async () => {
  sandbox = await sandboxWorld();
  const { world } = sandbox;
  bin = join(world.folder, 'bin');
  await mkdir(bin);
  const git = execFileSync('sh', ['-c', 'command -v git'], { encoding: 'utf8' }).trim();
  await writeFile(join(bin, 'git'), `#!/bin/sh\necho "$3" >> ${world.folder}/runs\nexec ${git} "$@"\n`);
  await chmod(join(bin, 'git'), 0o755);
  world.env = { PATH: `${bin}:${process.env['PATH'] ?? ''}` };
});
afterAll(() => sandbox.close());

/** Runs a command; answers the commands of git that it ran, and its requests by method and kind of object. */
async function costOf(...args: string[]): Promise<{ git: string[]; requests: Record<string, number> }> {
  const runs = join(sandbox.world.folder, 'runs');
  await writeFile(runs, '');
  const requests = await requestsOf(sandbox, args);
  const git = (await readFile(runs, 'utf8')).split('\n').filter((line) => line !== '');
  await rm(runs);
  return { git: git.sort(), requests };
}

/** Runs a command; answers its requests by method and kind of object. */
async function requestsOf({ world, requests }: SandboxWorld, args: readonly string[]): Promise<Record<string, number>> {
  const before = environments.map((name) => requests[name].length);
  const run = await world.hod(...args);
  expect(`${run.code ?? ''} ${run.stderr}`).toMatch(/^0 /);
  const counted: Record<string, number> = {};
  environments.forEach((name, at) => {
    for (const { method, path } of requests[name].slice(before[at])) {
      const kind = /\/(manifests|blobs\/uploads|blobs|tags|referrers)\//.exec(`${path}/`)?.[1] ?? 'front';
      counted[`${method} ${kind}`] = (counted[`${method} ${kind}`] ?? 0) + 1;
    }
  });
  return counted;
}

/** What a publication asks git: once for each question, all at the same time. */
const forPublication = ['for-each-ref', 'rev-list', 'rev-parse', 'status'];

test('git is run once for each question, and an unchanged publication asks for its tags alone', async () => {
  const first = await costOf('publish');
  // The rules of this hod.yaml come into force with it: whether a remote vouches for them is asked once.
  expect(first.git).toEqual([...forPublication, 'remote'].sort());
  // Four components, each with a fixed tag of its commit, one of its version, and the tag of the branch.
  expect(await costOf('publish')).toEqual({ git: forPublication, requests: { 'HEAD manifests': 12 } });
  expect((await costOf('promote', 'uat')).git).toEqual(['rev-parse']);
  expect((await costOf('promote', 'prod', '--commit')).git).toEqual(['rev-parse', 'rev-parse']);
  expect(await costOf('status')).toEqual({ git: [], requests: { 'HEAD manifests': 12 } });
});

/** What each command asks of one registry for three images and a bundle: eleven manifests, thirty blobs. */
const asked = {
  listed: {
    publish: {
      ...{ 'HEAD manifests': 36, 'PUT manifests': 27 },
      ...{ 'HEAD blobs': 23, 'POST blobs/uploads': 30, 'PUT blobs/uploads': 23 },
    },
    'publish again': { 'HEAD manifests': 12 },
    'promote uat': {
      ...{ 'HEAD manifests': 16, 'GET manifests': 11, 'PUT manifests': 23, 'POST blobs/uploads': 30 },
      ...{ 'GET referrers': 11, 'GET tags': 4 },
    },
    'status dev uat': { 'HEAD manifests': 8 },
  },
  unlisted: {
    publish: {
      ...{ 'HEAD manifests': 36, 'GET manifests': 8, 'PUT manifests': 31 },
      ...{ 'HEAD blobs': 23, 'POST blobs/uploads': 30, 'PUT blobs/uploads': 23 },
    },
    'publish again': { 'HEAD manifests': 12 },
    'promote uat': {
      ...{ 'HEAD manifests': 16, 'GET manifests': 23, 'PUT manifests': 27, 'POST blobs/uploads': 30 },
      ...{ 'GET referrers': 4, 'GET tags': 4 },
    },
    'status dev uat': { 'HEAD manifests': 8 },
  },
};

test.each(['listed', 'unlisted'] as const)(
  'one registry is asked so much, with referrers that it keeps %s',
  async (kept) => {
    const one = await sandboxWorld({ withoutReferrers: kept === 'unlisted' });
    try {
      await one.world.configure(`${one.world.host('uat')}/`, `${one.world.host('dev')}/uat/`);
      const found: Record<string, Record<string, number>> = {};
      for (const name of Object.keys(asked[kept])) {
        found[name] = await requestsOf(one, name.replace(' again', '').split(' '));
      }
      expect(found).toEqual(asked[kept]);
    } finally {
      await one.close();
    }
  },
);

test('of many tags, a promotion reads those that are made of digests', async () => {
  const { world, requests } = sandbox;
  const [published] = (await world.publish()).components;
  const address = (environment: 'dev' | 'uat', reference: string): string =>
    `http://127.0.0.1:${world.ports[environment]}/v2/skerry/timetable/manifests/${reference}`;
  const { digest = '', mediaType = '' } = published ?? {};
  const body = await (await fetch(address('dev', digest), { headers: { accept: mediaType } })).text();
  const beside = `${digest.replace(':', '-')}.note`;
  const numbers = Array.from({ length: 1_500 }, (_, at) => `0.0.${at}`);
  const note = { schemaVersion: 2, mediaType, manifests: [], artifactType: 'application/vnd.skerry.note' };
  await fetch(address('dev', beside), {
    method: 'PUT',
    headers: { 'content-type': mediaType },
    body: JSON.stringify(note),
  });
  for (const tag of ['winter', ...numbers]) {
    await fetch(address('dev', tag), { method: 'PUT', headers: { 'content-type': mediaType }, body });
  }
  const before = requests.dev.length;
  await world.promote('uat', '--mend');
  const lists = requests.dev.slice(before).filter(({ path }) => path.startsWith('/v2/skerry/timetable/tags/list'));
  expect(lists).toHaveLength(2);
  expect((await fetch(address('uat', beside))).headers.get('docker-content-digest')).toBe(sha256(JSON.stringify(note)));
});
