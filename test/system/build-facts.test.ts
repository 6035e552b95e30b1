import { execFileSync } from 'node:child_process';
import { cp, mkdtemp, rm, writeFile } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { hod, hodFails } from '../support/hod';
import { ciVariables } from '../support/ci-variables';
import { sandboxWorld, type SandboxWorld } from '../support/world';

let sandbox: SandboxWorld;
beforeEach(async () => (sandbox = await sandboxWorld()));
afterEach(() => sandbox.close());

const git = (folder: string, ...args: string[]): string =>
  execFileSync('git', ['-c', 'user.name=Una Skerry', '-c', 'user.email=una@skerry.test', ...args], {
    cwd: folder,
    encoding: 'utf8',
    stdio: ['ignore', 'pipe', 'ignore'],
  }).trim();

/** What `--verbose` says of the build: name, value or `not known`, and who says so. */
async function factsOf(...args: string[]): Promise<Record<string, string>> {
  const run = await hod(['publish', '--dry-run', '--verbose', ...args], sandbox.world.options);
  const lines = run.stderr.matchAll(/^ {2}(\w[\w ]*?) {2,}(\S.*)$/gm);
  return Object.fromEntries([...lines].map(([, name = '', text = '']) => [name, text.replace(/ {2,}/, ' ')]));
}

test('facts come from git, from the CI, and from options, in this order of weight; --verbose says which', async () => {
  const { world } = sandbox;
  const commit = world.product.head();
  expect(await factsOf()).toMatchObject({
    commit: `${commit} (git)`,
    branch: 'main (git)',
    'git tags': 'v2.4.0 (git)',
    dirty: 'no (git)',
    build: 'not known no option, CI variable or git checkout says so',
    version: '2.4.0 (the git tag)',
  });
  // A job of a CI works on a detached head; the CI knows the branch and the number.
  git(world.product.folder, 'checkout', '--quiet', '--detach');
  expect((await factsOf())['branch']).toMatch(/^not known a detached head/);
  const pipeline = ciVariables({ commit, branch: 'winter', build: '1207' });
  world.env = { ...pipeline, ...ciVariables({ run: 'https://ci.skerry.test/1207' }) };
  expect(await factsOf()).toMatchObject({
    branch: 'winter (the CI)',
    build: '1207 (the CI)',
    run: 'https://ci.skerry.test/1207 (the CI)',
  });
  expect(await factsOf('--branch', 'summer', '--build', '8', '--version', '3.0.0')).toMatchObject({
    branch: 'summer (--branch)',
    build: '8 (--build)',
    version: '3.0.0 (--version)',
  });
  // A pull request is not the branch that it wants to go to.
  world.env = {
    ...pipeline,
    CI_PIPELINE_EVENT: 'pull_request',
    CI_COMMIT_SOURCE_BRANCH: 'feature',
    CI_COMMIT_TARGET_BRANCH: 'main',
  };
  expect((await factsOf())['branch']).toBe('pr-feature (the CI)');

  await world.configure('["c-{commit:12}", "{version}"]', '["c-{commit:12}", "{version}", "{version}-b{build}"]');
  const published = await world.publish();
  expect(published).toMatchObject({ branch: 'pr-feature', build: '1207' });
  // Whatever git tags stand at its commit.
  expect(published.version).toBeNull();
  // Who did it: whom the command line names, else whom the CI names.
  world.env = { ...ciVariables({ commit, branch: 'main', build: '1208' }), CI_COMMIT_AUTHOR: 'siv' };
  const again = await world.publish();
  expect(again.components[0]?.tags.map(({ tag }) => tag)).toContain('2.4.0-b1208');
  expect((await world.status('dev')).environments[0]?.components[0]?.by).toBe('siv');
});

test('a version on a merge commit counts; a shallow clone says what it cannot know, and how to fetch it', async () => {
  const { world } = sandbox;
  const { folder } = world.product;
  git(folder, 'checkout', '--quiet', '-b', 'winter');
  await world.product.change('timetable', 'Show the winter sailings');
  git(folder, 'checkout', '--quiet', 'main');
  git(folder, 'merge', '--quiet', '--no-ff', '-m', 'Merge winter', 'winter');
  git(folder, 'tag', '-a', 'v2.5.0', '-m', 'The winter release');
  await world.product.build();
  await world.publish();
  expect((await world.status('dev')).environments[0]?.components[0]?.version).toBe('2.5.0');
  await world.product.change('timetable', 'Mend the winter sailings');
  await world.product.build();

  const clone = await mkdtemp(join(tmpdir(), 'hod-shallow-'));
  try {
    git(clone, 'clone', '--quiet', '--depth=1', `file://${folder}`, 'product');
    const shallow = join(clone, 'product');
    await cp(join(folder, 'hod.yaml'), join(shallow, 'hod.yaml'));
    git(shallow, 'update-index', '--skip-worktree', 'hod.yaml');
    await cp(join(folder, 'out'), join(shallow, 'out'), { recursive: true });
    await cp(join(folder, '.hod'), join(shallow, '.hod'), { recursive: true });
    const options = { ...world.options, cwd: shallow };
    const late = await hod(['publish'], options);
    expect(late).toMatchObject({
      code: 0,
      stderr: expect.stringMatching(/^the ledger is a file in the clone.*git: { remote: origin }.*\n$/),
    });
    expect(late.stdout).toMatch(
      /main +held +points to 2\.5\.0; the newer one is unknown: .*shallow clone.*git fetch --unshallow/,
    );
    const strict = await hodFails('held-by-order', ['publish', '--strict-order'], options);
    expect(strict.why).toContain('git fetch --unshallow');
    const next = await hodFails('order-unknown', ['publish', '--next', 'minor'], options);
    expect(next.next).toContain('git fetch --unshallow');
    git(shallow, 'fetch', '--quiet', '--unshallow', '--tags');
    expect((await hod(['publish'], options)).stdout).toMatch(/main +moved +was 2\.5\.0/);
  } finally {
    await rm(clone, { recursive: true });
  }
});

test('a repository of many products: a git tag names a version of one of them; what looks meant for one is named', async () => {
  const { world } = sandbox;
  await world.configure('product: skerry-line', 'product: skerry-line\nversion-tags: "skerry/v{version}"');
  await world.product.change('timetable', 'Show the winter sailings');
  await world.product.build();
  world.product.tag('skerry/v5.0');
  world.product.tag('v9.9.9');
  const none = await world.publish();
  expect(none).toMatchObject({ version: null });
  expect((await world.hod('publish', '--verbose')).stderr).toMatch(
    /version +not known +.*the git tag skerry\/v5\.0 is none/,
  );
  world.product.tag('skerry/v5.0.0');
  expect(await world.publish()).toMatchObject({ version: '5.0.0' });
  // Hod keeps itself out of git, whatever the product ignores.
  await world.product.edit('.gitignore', 'out*/\n');
  expect(git(world.product.folder, 'status', '--porcelain')).toBe('');
});

test('without git, what cannot be known is asked for', async () => {
  const { world } = sandbox;
  const commit = world.product.head();
  await rm(join(world.product.folder, '.git'), { recursive: true });
  expect(await world.fails('commit-unknown', 'publish')).toMatchObject({
    why: 'this is not a git working copy',
    next: expect.stringContaining('--commit'),
  });
  const published = await world.publish('--commit', commit, '--branch', 'main', '--version', '2.4.0');
  expect(published).toMatchObject({ commit, branch: 'main', version: '2.4.0' });
});

test('what was built from a dirty working copy gets neither a version nor a fixed tag', async () => {
  const { world } = sandbox;
  await writeFile(join(world.product.folder, 'services/timetable/PURPOSE'), 'changed by hand\n');
  expect((await world.fails('dirty-working-copy', 'publish')).object).toBe('2.4.0');
  await world.fails('dirty-working-copy', 'publish', '--next', 'minor');
  await world.fails('dirty-working-copy', 'stage');
  git(world.product.folder, 'tag', '--delete', 'v2.4.0');
  const published = await world.publish();
  expect(published.components[0]?.tags).toMatchObject([{ tag: 'main', outcome: 'created' }]);
  expect(published.components[0]?.omitted.map(({ missing }) => missing)).toEqual([
    'clean working copy',
    'clean working copy',
  ]);
  // The commit's own build still finds its tag free.
  git(world.product.folder, 'checkout', '--quiet', '.');
  await world.product.build('clean');
  expect((await world.publish()).components[0]?.tags).toMatchObject([{ outcome: 'created' }, { outcome: 'moved' }]);
});

test('an old build output under a new tag is refused, with both commits', async () => {
  const { world } = sandbox;
  const built = world.product.head();
  const commit = await world.product.change('timetable', 'Show the winter sailings');
  const refused = await world.fails('other-build', 'publish');
  expect(refused.object).toContain(commit);
  expect(refused.why).toContain(`timetable for linux/arm64 was built from the commit ${built}`);
  await world.fails('other-build', 'stage', 'timetable');
  expect(sandbox.requests.dev.filter(({ method }) => method === 'PUT')).toEqual([]);
  expect((await world.publish('--commit', built, '--branch', 'main')).commit).toBe(built);
});
