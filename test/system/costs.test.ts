import { chmod, mkdir, readFile, rm, writeFile } from 'node:fs/promises';
import { execFileSync } from 'node:child_process';
import { join } from 'node:path';
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
  const { world, requests } = sandbox;
  const runs = join(world.folder, 'runs');
  await writeFile(runs, '');
  const before = environments.map((name) => requests[name].length);
  const run = await world.hod(...args);
  expect(`${run.code ?? ''} ${run.stderr}`).toMatch(/^0 /);
  const git = (await readFile(runs, 'utf8')).split('\n').filter((line) => line !== '');
  await rm(runs);
  const counted: Record<string, number> = {};
  environments.forEach((name, at) => {
    for (const { method, path } of requests[name].slice(before[at])) {
      const kind = /\/(manifests|blobs\/uploads|blobs|tags|referrers)\//.exec(`${path}/`)?.[1] ?? 'front';
      counted[`${method} ${kind}`] = (counted[`${method} ${kind}`] ?? 0) + 1;
    }
  });
  return { git: git.sort(), requests: counted };
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
