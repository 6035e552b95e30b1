import { playLines, readPage, sectionOf, shellBlocks } from '../support/play-page';
import { git } from '../support/git-remote';
import { hodJson } from '../support/hod';
import { sandboxWorld, type SandboxWorld } from '../support/world';

let sandbox: SandboxWorld;
beforeEach(async () => {
  sandbox = await sandboxWorld();
  git(sandbox.world.product.folder, ['update-index', '--no-skip-worktree', 'hod.yaml']);
});
afterEach(() => sandbox.close());

/** Commits to the branch that is checked out, hod.yaml too, and builds. */
async function build(note: string): Promise<string> {
  const { product } = sandbox.world;
  git(product.folder, ['add', 'hod.yaml']);
  const commit = await product.change('timetable', note);
  await product.build();
  return commit;
}

/** The lines of a section of the docs about the years of a product, after its build. */
async function story(title: string): Promise<readonly [before: string, after: string]> {
  const [before = '', after = ''] = shellBlocks(sectionOf(await readPage('docs/years.md'), title))
    .join('')
    .split('./build.sh\n');
  return [before, after];
}

const rollback = (environment: string) =>
  hodJson('rollback', ['rollback', environment, '--reason', 'the gauges are wrong'], sandbox.world.options);
const prove = (...args: string[]) => hodJson('prove', ['prove', ...args], sandbox.world.options);

test('an environment comes between two: what came before stays proved, and no older checkout promotes past it', async () => {
  const { world } = sandbox;
  const { product } = world;
  await build('Show the spring sailings');
  await world.publish('--version', '2.4.1');
  await world.promote('uat');
  await world.promote('prod');
  const older = await build('Close the gate at night');
  await world.publish('--version', '2.4.2');
  await world.promote('uat');
  git(product.folder, ['branch', 'support-2.4']);

  const page = sectionOf(await readPage('docs/years.md'), 'A new environment between two');
  const added = / {2}staging:\n(?: {4}.*\n)+/.exec(page)?.[0] ?? '';
  await world.configure(
    /^ {2}prod:\n {4}after: uat\n/m,
    (all: string) =>
      `${added.replace('uat.registry.test', world.host('uat'))}${all.replace('after: uat', 'after: staging')}`,
  );
  const [commit, rest] = await story('A new environment between two');
  await playLines(commit, world);
  const newer = await build('Show the summer sailings');
  const [publish = '', ...promotions] = rest.split('\n');
  await playLines(publish, world);
  // From now on staging counts, though nothing has passed through it.
  git(product.folder, ['checkout', '-q', older]);
  const refused = await world.fails('older-rules', 'promote', 'prod', '--version', '2.4.2');
  expect([refused.why].flat().join('\n')).toMatch(
    /older than commit [0-9a-f]{12}[^]*way: dev → uat → staging → prod in force, dev → uat → prod here/,
  );
  git(product.folder, ['checkout', '-q', 'main']);
  const said = await playLines(promotions.join('\n'), world);
  expect(said).toMatch(/Proved: prod serves what was published and tested\n[^]*Would roll prod back to 2\.4\.1/);
  await rollback('prod');
  expect((await prove('prod')).environments[0]?.findings).toEqual([]);

  // A branch that was cut before does not contain the change; a clone that was not fetched does not know it.
  git(product.folder, ['checkout', '-q', 'support-2.4']);
  git(product.folder, ['commit', '-q', '--allow-empty', '-m', 'Begin a branch']);
  const apart = await world.fails('older-rules', 'promote', 'prod', '--version', '2.5.0', '--again', '--reason', 'x');
  expect(apart.why).toContain('does not contain commit');
  // The advice works: with the newer rules, the older checkout is judged by them.
  git(product.folder, ['checkout', '-q', newer, '--', 'hod.yaml']);
  await world.promote('prod', '--version', '2.5.0', '--again', '--reason', 'the gauges work again');
}, 60_000);
