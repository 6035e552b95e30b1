import { execFile, execFileSync } from 'node:child_process';
import { mkdir, mkdtemp, readdir, readFile, rm, writeFile } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { promisify } from 'node:util';
import { startSandboxRegistry } from '../../src/sandbox/registry/router';
import { packLayout, writeSampleLayout } from '../../src/sandbox/sample/sample-image';
import { pushLayout } from '../support/builder';
import { layerOf, pack, writeOlderArchive } from '../support/archives';
import { hod, hodFails, hodJson, program } from '../support/hod';
import { readRepository } from '../support/registry-reader';

let folder: string;
beforeEach(async () => {
  folder = join(await mkdtemp(join(tmpdir(), 'hod-init-')), 'Skerry Line');
  await mkdir(folder);
});
afterEach(() => rm(join(folder, '..'), { recursive: true }));

const inside = (...names: string[]) => join(folder, ...names);
const git = (...args: string[]) =>
  execFileSync('git', ['-C', folder, '-c', 'user.name=una', '-c', 'user.email=u', ...args]);
const options = () => ({
  cwd: folder,
  env: { HOME: folder, GIT_AUTHOR_NAME: 'una', GIT_COMMITTER_NAME: 'una', EMAIL: 'una@skerry.test' },
});
const sample = (name: string, ...platforms: string[]) =>
  writeSampleLayout(
    inside('out', name),
    platforms.map((platform) => ({ platform, revision: 'a'.repeat(40), layers: [{ app: platform }] })),
  );

/** The commands under `Next:` of an answer. */
function commandsIn(answer: string): string[] {
  expect(answer).toContain('Next:');
  const lines = answer.slice(answer.indexOf('Next:')).split('\n').slice(1);
  return lines.map((line) => line.trim().split(/ {2,}/)[0] ?? '').filter((line) => line !== '');
}

test('who never saw Hod comes from an empty repository to a release that was promoted, compared and taken back', async () => {
  const registry = await startSandboxRegistry({ port: 0 });
  try {
    git('init', '--quiet', '--initial-branch', 'main');
    const build = async (text: string): Promise<void> => {
      await rm(inside('image'), { recursive: true, force: true });
      await mkdir(inside('image'));
      const layers = [await layerOf('app', text)];
      await writeOlderArchive(inside('image'), [{ config: { architecture: 'amd64', os: 'linux' }, layers }]);
      await mkdir(inside('out'), { recursive: true });
      await pack(inside('image'), inside('out', 'timetable.tar'));
    };
    /** Runs a line as somebody would who sits there. */
    const run = async (command: string): Promise<string> => {
      const line = command.replace(/^hod /, `'${process.execPath}' '${program}' `);
      const env = { ...process.env, ...options().env, CI: '' };
      return (await promisify(execFile)('sh', ['-c', line], { cwd: folder, env })).stdout;
    };
    await build('a timetable');
    const made = await run(`hod init --registry sandbox.localhost:${registry.port}/skerry`);
    // Nothing else was added.
    expect((await readdir(folder)).sort()).toEqual(['.git', 'hod.yaml', 'out']);
    const first = commandsIn(made);
    expect(first).toEqual([expect.stringMatching(/^git add /), 'hod access check', 'hod publish', 'hod promote uat']);
    for (const command of first) {
      await run(command);
    }
    const { tags } = await readRepository(registry.port, 'skerry/uat/timetable');
    expect(Object.keys(tags)).toEqual([expect.stringMatching(/^c-[0-9a-f]{12}$/), 'uat']);
    // No run makes the working copy dirty.
    expect(String(git('status', '--porcelain', '--untracked-files=no'))).toBe('');
    expect((await hodFails('config-exists', ['init'], options())).next).toContain('--config');

    // Their work goes on; from here each line is one that was printed.
    git('commit', '--quiet', '--allow-empty', '--message', 'Show the winter sailings');
    await build('a better timetable');
    const taken: string[] = [];
    const follow = async (answer: string, wanted: RegExp): Promise<string> => {
      const command = commandsIn(answer).find((each) => wanted.test(each)) ?? `nothing of ${commandsIn(answer).join()}`;
      taken.push(command);
      return run(command);
    };
    const published = await run(first.find((each) => each.startsWith('hod publish')) ?? '');
    expect(await follow(published, /compare/)).toContain('1 commit in it now');
    const promoted = await follow(published, /promote/);
    expect(Object.keys((await readRepository(registry.port, 'skerry/uat/timetable')).tags)).toEqual([
      ...Array(2).fill(expect.stringMatching(/^c-[0-9a-f]{12}$/)),
      'uat',
    ]);
    const back = await follow(promoted, /rollback/);
    expect(await follow(back, /status/)).toMatch(/unmet {2}comes-in|hod promote/);
    expect(await follow(back, /timeline/)).toMatch(/^.* rolled-back +uat/);
    expect(taken).toEqual([
      'hod compare uat dev',
      'hod promote uat',
      'hod rollback uat --reason "…"',
      'hod status',
      'hod timeline',
    ]);
  } finally {
    await registry.close();
  }
});

test('outputs of every kind are found, those of one image for platforms of their own put together', async () => {
  git('init', '--quiet', '--initial-branch', 'trunk');
  git('remote', 'add', 'origin', 'ssh://git.skerry.test:22/line/Fare_Tables.git');
  await writeFile(inside('Jenkinsfile'), '');
  await sample('timetable-amd64', 'linux/amd64');
  await sample('timetable-arm64', 'linux/arm64');
  await packLayout(inside('out', 'timetable-arm64'), inside('out', 'timetable-arm64.tar'));
  await sample('boarding-gate', 'linux/amd64', 'linux/arm64');
  await mkdir(inside('several'));
  const image = async (name: string) => ({
    config: { architecture: 'arm64', os: 'linux' },
    layers: [await layerOf('app', name)],
    entry: { RepoTags: [`registry.test/skerry/${name}:build-7`] },
  });
  await writeOlderArchive(inside('several'), [await image('Tide Watch'), await image('gauge')]);
  await mkdir(inside('dist'));
  await pack(inside('several'), inside('dist', 'all.tar.gz'));
  await writeFile(inside('dist', 'notes.tar'), 'no archive');

  const made = await hodJson('init', ['init', '--config', 'release.yaml', '--dry-run'], options());
  expect(made).toMatchObject({ file: 'release.yaml', dryRun: true });
  const here = await hodJson('init', ['init'], options());
  expect(here).toMatchObject({ product: 'fare_tables', ledger: 'the git remote origin', ciFound: true });
  expect(here.images).toEqual([
    { name: 'boarding-gate', from: ['out/boarding-gate'], platforms: ['linux/amd64', 'linux/arm64'] },
    {
      name: 'timetable',
      from: ['out/timetable-amd64', 'out/timetable-arm64.tar'],
      platforms: ['linux/amd64', 'linux/arm64'],
    },
    { name: 'tide-watch', from: ['dist/all.tar.gz#registry.test/skerry/Tide Watch'], platforms: ['linux/arm64'] },
    { name: 'gauge', from: ['dist/all.tar.gz#registry.test/skerry/gauge'], platforms: ['linux/arm64'] },
  ]);
  const text = await readFile(inside('hod.yaml'), 'utf8');
  expect(text).toContain('follows: [trunk]');
  expect(text).toContain('ledger: { git: { remote: origin } }');
  await hodJson('config-check', ['config', 'check'], options());
});

test.each(['9 lives', 'true', '---', 'Übersee', 'a: b', "it's #1"])(
  'where nothing was found in a folder called %s, the configuration is valid all the same',
  async (name) => {
    const cwd = inside(name);
    await mkdir(cwd);
    const made = await hod(['init'], { ...options(), cwd });
    expect(made.stdout).toContain('No build output was found');
    expect(made.stdout).toContain('git init && git add hod.yaml');
    await hodJson('config-check', ['config', 'check'], { ...options(), cwd });
  },
);

test('repositories that have tags already are noticed, wherever the environment stands in their names', async () => {
  const registry = await startSandboxRegistry({ port: 0 });
  try {
    git('init', '--quiet', '--initial-branch', 'main');
    await sample('timetable', 'linux/amd64', 'linux/arm64');
    for (const environment of ['dev', 'prod']) {
      await pushLayout(registry.port, `${environment}/skerry/timetable`, inside('out', 'timetable'), 'latest');
    }
    const place = `sandbox.localhost:${registry.port}/{environment}/skerry`;
    const made = await hodJson('init', ['init', '--registry', place], options());
    expect(made.next.map(({ command }) => command)).toContain('hod adopt dev prod --dry-run');
    expect(made.lines).toContain(`    repository: "sandbox.localhost:${registry.port}/uat/skerry/{image}"`);
  } finally {
    await registry.close();
  }
});

test('a place that is no registry, or that cannot be written', async () => {
  expect((await hodFails('not-a-repository', ['init', '--registry', 'http://registry.test'], options())).why).toContain(
    'http://',
  );
  await writeFile(inside('file'), '');
  await hodFails('system-refused', ['init', '--config', 'file/hod.yaml'], options());
  expect(await readdir(folder)).toEqual(['file']);
});
