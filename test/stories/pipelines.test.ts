import { execFile } from 'node:child_process';
import { chmod, cp, mkdir, readdir, readFile, rm, writeFile } from 'node:fs/promises';
import { join, resolve } from 'node:path';
import { promisify } from 'node:util';
import { git, GitRemoteRepository } from '../support/git-remote';
import { program } from '../support/hod';
import { sandboxWorld, type SandboxWorld } from '../support/world';

const run = promisify(execFile);
const examples = resolve(__dirname, '../../docs/pipelines');
let sandbox: SandboxWorld;
let remote: GitRemoteRepository;
beforeEach(async () => {
  sandbox = await sandboxWorld();
  remote = new GitRemoteRepository({ partial: true });
});
afterEach(async () => {
  await sandbox.close();
  await remote.remove();
});

const inWorld = (...path: string[]): string => join(sandbox.world.folder, ...path);

/** Makes `hod` a command, `build.sh` a build that takes its time, and a remote that is all that jobs share. */
async function prepare(): Promise<void> {
  const { world } = sandbox;
  const { product } = world;
  git(product.folder, ['remote', 'add', 'origin', `file://${remote.path}`]);
  await mkdir(inWorld('bin'), { recursive: true });
  await writeFile(inWorld('bin', 'hod'), `#!/bin/sh\nexec '${process.execPath}' '${program}' "$@"\n`, { mode: 0o755 });
  await world.configure(/$/, 'ledger: { git: { remote: origin } }\n');
  await world.configure(/^( {2}(?:timetable|boarding-gate|tide-watch):)/gm, '$1\n    publish-alone: true');
  await product.edit(
    'build.sh',
    `#!/bin/sh\nset -e\nmkdir -p out\nfor each in ${inWorld('built')}/"$1"*; do cp -r "$each" out/; done\n`,
  );
  await product.edit('smoke-test.sh', '#!/bin/sh\nexit 0\n');
  await chmod(join(product.folder, 'build.sh'), 0o755);
  await chmod(join(product.folder, 'smoke-test.sh'), 0o755);
  await product.edit('README.md', '# The Skerry Line\n');
  await product.build();
  await cp(join(product.folder, 'out'), inWorld('built'), { recursive: true });
}

/** Runs every job of an example, side by side, each in a clone of its own. Answers what was printed. */
async function play(name: string, env: Record<string, string> = {}): Promise<string> {
  const jobs = (await readdir(join(examples, name))).map((file) => file.replace('.sh', ''));
  const printed = await Promise.all(
    jobs.map((job) => runJob(`${name}-${job}`, [join(examples, name, `${job}.sh`)], env)),
  );
  return printed.join('\n');
}

/** Runs a command as a job: in a fresh clone, and nothing of other jobs. Answers what was printed. */
async function runJob(job: string, [file = '', ...args]: string[], env: Record<string, string> = {}): Promise<string> {
  const { product } = sandbox.world;
  git(product.folder, ['push', '--quiet', '--all', 'origin']);
  git(product.folder, ['push', '--quiet', '--tags', 'origin']);
  const folder = inWorld(job);
  git(sandbox.world.folder, [
    'clone',
    '--quiet',
    '--branch',
    git(product.folder, ['branch', '--show-current']),
    remote.path,
    folder,
  ]);
  await cp(join(product.folder, 'hod.yaml'), join(folder, 'hod.yaml'));
  git(folder, ['update-index', '--skip-worktree', 'hod.yaml']);
  const { stdout, stderr } = await run(file, args, {
    cwd: folder,
    env: {
      PATH: `${inWorld('bin')}:${process.env['PATH'] ?? ''}`,
      HOME: process.env['HOME'],
      USER: 'una',
      CI: 'true',
      SUMMARY: inWorld('summary.md'),
      OUTPUTS: inWorld('outputs'),
      ...env,
    },
  });
  return stdout + stderr;
}

test('every example is played here', async () => {
  const names = await readdir(examples);
  expect(names.sort()).toEqual(['by-platform', 'maintenance', 'one-job', 'only-what-changed', 'while-building']);
});

test('the jobs of the README, each in a clone of its own', async () => {
  await prepare();
  const readme = await readFile(resolve(__dirname, '../../README.md'), 'utf8');
  const [, script = ''] = /## In a pipeline[^]*?```sh\n([^]*?)```/.exec(readme) ?? [];
  const jobs = script.split(/^(?=# the job)/m);
  expect(jobs).toHaveLength(3);
  const { world } = sandbox;
  await world.publish('--version', '2.4.9');
  await world.promote('uat');
  await world.promote('prod');
  await world.product.change('timetable', 'Show the winter sailings');
  world.product.tag('v2.5.0');
  await world.product.build();
  await rm(inWorld('built'), { recursive: true });
  await cp(join(world.product.folder, 'out'), inWorld('built'), { recursive: true });
  const [built, tested, released] = jobs.map((text) => ['bash', '-ec', text]);
  expect(await runJob('builds', built ?? [])).toMatch(/Published skerry-line 2\.5\.0/);
  expect(await runJob('tests', tested ?? [])).toMatch(/Promoted skerry-line 2\.5\.0[^]* to uat/);
  expect(await runJob('by-hand', released ?? [])).toMatch(/Promoted skerry-line 2\.5\.0[^]* to prod[^]*2\.4\.9/);
  expect(git(remote.path, ['rev-list', '--count', 'refs/hod/skerry-line'])).toBe('8');
});

test('one job; then a repository of which only one image changed', async () => {
  await prepare();
  const { world } = sandbox;
  const text = await play('one-job');
  expect(text).toMatch(/deploying uat\.localhost:\d+\/skerry\/timetable@sha256:/);
  expect(await readFile(inWorld('summary.md'), 'utf8')).toMatch(/Published to dev[^]*Promoted to uat/);
  const since = world.product.head();
  await world.product.change('tide-watch', 'Read the new gauge');
  await world.product.build();
  await cp(join(world.product.folder, 'out'), inWorld('built'), { recursive: true });
  expect(await play('only-what-changed', { SINCE: since })).toContain('tide-watch');
  const tags = async (image: string) => Object.keys((await world.served('dev'))[image]?.tags ?? {});
  expect(await tags('tide-watch')).toContain('2.5.1');
  expect(await tags('timetable')).not.toContain('2.5.1');
});

test.each(['by-platform', 'while-building'])(
  '%s: everything arrives under one tag, and nothing else is left',
  async (name) => {
    await prepare();
    await play(name);
    const served = await sandbox.world.served('dev');
    for (const [image, { tags }] of Object.entries(served)) {
      expect([image, Object.keys(tags).sort()]).toEqual([
        image,
        ['2.5.0', `c-${sandbox.world.product.head().slice(0, 12)}`, 'main'],
      ]);
    }
  },
);

test('maintenance of an older line', async () => {
  const { world } = sandbox;
  await prepare();
  const fixed = world.product.head();
  await world.publish('--version', '2.4.0');
  await world.product.change('timetable', 'Show the winter sailings');
  await world.product.build();
  await world.publish('--version', '2.5.0');
  await world.promote('uat');
  await world.promote('prod');
  world.product.checkout('support-2.4', fixed);
  await world.product.change('timetable', 'Mend the summer sailings');
  await world.product.build();
  await cp(join(world.product.folder, 'out'), inWorld('built'), { recursive: true });
  await play('maintenance');
  const tags = (await world.served('prod'))['timetable']?.tags ?? {};
  expect(tags['2.4']).toBe(tags['2.4.1']);
  expect(tags['latest']).toBe(tags['2.5.0']);
  expect(tags['2']).toBe(tags['2.5.0']);
});
