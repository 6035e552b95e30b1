import Database from 'libsql';
import { execFileSync } from 'node:child_process';
import { mkdtemp, readFile, writeFile } from 'node:fs/promises';
import { join } from 'node:path';
import { hod, hodJson } from '../support/hod';
import { components, sandboxWorld, type SandboxWorld } from '../support/world';

/** Who may say what an environment serves, by whose name, and when: each row was let through once. */

const worlds: SandboxWorld[] = [];
let count = 0;
afterAll(() => Promise.all(worlds.map((each) => each.close())));

async function newWorld(): Promise<SandboxWorld> {
  const sandbox = await sandboxWorld();
  worlds.push(sandbox);
  return sandbox;
}

const github = { GITHUB_ACTIONS: 'true', GITHUB_REPOSITORY: 'skerry/line', GITHUB_EVENT_NAME: 'push' };

/** Writes the hod.yaml of a branch, and answers its path. */
async function branchConfig({ world }: SandboxWorld, change: (text: string) => string): Promise<string> {
  count += 1;
  const file = join(world.product.folder, `branch-${count}.yaml`);
  const before = await readFile(join(world.product.folder, 'hod.yaml'), 'utf8');
  const after = change(before);
  expect(after).not.toBe(before);
  await writeFile(file, after);
  return file;
}

/** A hod.yaml in which `name` is the first environment, in dev's registry. */
const first =
  (name: string, { world }: SandboxWorld) =>
  (text: string): string => {
    const [head = ''] = text.split(/^environments:\n/m);
    const ledger = /^ledger:.*$/m.exec(text)?.[0] ?? '';
    return `${head}environments:\n  ${name}:\n    repository: ${world.host('dev')}/skerry/{image}\n    tags: { fixed: ['bad-{commit:12}'], moving: [] }\n${ledger}\n`;
  };

test("a branch's hod.yaml does not make prod the first environment, nor move it to dev's registry", async () => {
  const sandbox = await newWorld();
  const { world } = sandbox;
  await world.publish();
  await world.promote('uat');
  await world.promote('prod');
  const served = await world.served('prod');
  await world.product.change('timetable', 'Serve something else');
  await world.product.build();
  const config = await branchConfig(sandbox, first('prod', sandbox));
  await world.fails('other-way-in', 'publish', '--config', config);
  await world.fails('other-way-in', 'publish', '--config', config, '--actor', 'una');
  // Neighbours: prod after dev, without its gates; prod in dev's registry; uat the first.
  await world.publish('--version', '2.5.0');
  const skipping = await branchConfig(sandbox, (text) => text.replace(/after: uat/, 'after: dev'));
  await world.fails('other-way-in', 'promote', 'prod', '--config', skipping);
  const elsewhere = await branchConfig(sandbox, (text) => text.replace(world.host('prod'), world.host('dev')));
  await world.promote('uat');
  await world.fails('other-way-in', 'promote', 'prod', '--config', elsewhere);
  await world.fails('other-way-in', 'publish', '--config', await branchConfig(sandbox, first('uat', sandbox)));
  expect(await world.served('prod')).toEqual(served);
  // On purpose, on record.
  await world.fails('reason-missing', 'promote', 'prod', '--config', skipping, '--new-way-in');
  const accepted = ['--new-way-in', '--reason', 'uat is closed for the winter'];
  const promoted = await world.promote('prod', '--config', skipping, ...accepted);
  expect(promoted.gates).toContainEqual(expect.objectContaining({ gate: 'way-in', outcome: 'met' }));
  const { events } = await hodJson('timeline', ['timeline', '--env', 'prod'], world.options);
  expect(JSON.stringify(events)).toContain('uat is closed for the winter');
});

test('what came into an environment that was never used before, from a branch, is not pointed to, and not advised', async () => {
  const sandbox = await newWorld();
  const { world } = sandbox;
  await world.publish();
  await world.promote('uat');
  await hodJson('publish', ['publish', '--config', await branchConfig(sandbox, first('prod', sandbox))], world.options);
  const file = join(world.folder, 'prod.yaml');
  const text = `image: ${world.repository('prod', 'timetable')}:latest\n`;
  await writeFile(file, text);
  await world.fails('repository-changed', 'point', 'prod', file);
  expect(await readFile(file, 'utf8')).toBe(text);
  const error = await world.fails('other-way-in', 'promote', 'prod');
  expect(JSON.stringify(error)).not.toMatch(/rollback/);
  // Who may write to both puts it right.
  await world.promote('prod', '--new-way-in', '--reason', 'a branch had published into it');
  await hodJson('point', ['point', 'prod', file], world.options);
  expect(await readFile(file, 'utf8')).toMatch(/@sha256:/);
});

test('what was brought into the right place by another way is not pointed to', async () => {
  const sandbox = await newWorld();
  const { world } = sandbox;
  await world.publish();
  const own = await branchConfig(sandbox, (text) =>
    first('prod', sandbox)(text).replace(world.host('dev'), world.host('prod')),
  );
  await hodJson('publish', ['publish', '--config', own], world.options);
  const file = join(world.folder, 'prod.yaml');
  await writeFile(file, `image: ${world.repository('prod', 'timetable')}:latest\n`);
  await world.fails('not-admitted', 'point', 'prod', file);
});

test('without the right to write to an environment nothing is recorded about it', async () => {
  const sandbox = await sandboxWorld({ login: { username: 'una', password: 'gull-and-tern-9' } });
  worlds.push(sandbox);
  const { world } = sandbox;
  await world.useLogin({ username: 'una', password: 'gull-and-tern-9' });
  await world.publish();
  await world.promote('uat');
  await world.promote('prod');
  await world.product.change('timetable', 'Show the winter sailings');
  await world.product.build();
  await world.publish('--version', '2.5.0');
  await world.promote('uat');
  const before = (await hodJson('ledger-verify', ['ledger', 'verify'], world.options)).entries;
  await world.configure(`  ${world.host('prod')}: { credentials`, `  prod.nowhere.localhost:1: { credentials`);
  await world.configure(`  ${world.host('uat')}: { credentials`, `  uat.nowhere.localhost:1: { credentials`);
  for (const command of [
    ['promote', 'prod'],
    ['rollback', 'uat', '--reason', 'no right'],
  ]) {
    const { code } = await hod(command, world.options);
    expect([command[0], code]).toEqual([command[0], 5]);
  }
  expect((await hodJson('ledger-verify', ['ledger', 'verify'], world.options)).entries).toBe(before);
});

test("a fork's pull request whose branch is called main has tags and a line of its own", async () => {
  const { world } = await newWorld();
  await world.publish();
  const head = execFileSync('git', ['rev-parse', 'HEAD'], { cwd: world.product.folder, encoding: 'utf8' }).trim();
  await world.product.change('timetable', 'Serve something else');
  await world.product.build();
  const ofFork = {
    ...github,
    GITHUB_EVENT_NAME: 'pull_request',
    GITHUB_REF: 'refs/pull/12/merge',
    GITHUB_HEAD_REF: 'main',
    GITHUB_BASE_REF: 'main',
  };
  for (const args of [[], ['--branch', 'main'], ['--commit', 'HEAD', '--branch', 'main']]) {
    const published = await hodJson('publish', ['publish', ...args], {
      ...world.options,
      env: { ...world.env, ...ofFork },
    });
    expect(published.components.map(({ way }) => way)).toEqual(components.map(() => 'beside'));
    const tags = published.components.flatMap((component) => component.tags.map(({ tag }) => tag));
    expect([tags.includes('main'), tags.includes('pr-12')]).toEqual([false, true]);
  }
  // Main's next build is not held by it.
  execFileSync('git', ['checkout', '--quiet', '--detach', head], { cwd: world.product.folder });
  execFileSync('git', ['checkout', '--quiet', '-B', 'main'], { cwd: world.product.folder });
  await world.product.change('timetable', 'Show the winter sailings');
  await world.product.build();
  const next = await world.publish();
  expect(next.components.find(({ component }) => component === 'timetable')).toMatchObject({ way: 'takes-over' });
});

test('a branch that the CI names counts for the commit that the CI names, or one that is on it', async () => {
  const { world } = await newWorld();
  await world.publish();
  const git = (...args: string[]): string =>
    execFileSync('git', args, { cwd: world.product.folder, encoding: 'utf8' }).trim();
  const ofMain = { ...github, GITHUB_REF: 'refs/heads/main', GITHUB_SHA: git('rev-parse', 'HEAD') };
  git('checkout', '--quiet', '-b', 'spike');
  await world.product.change('timetable', 'Serve something else');
  await world.product.build();
  git('checkout', '--quiet', '--detach', 'spike');
  const options = { ...world.options, env: { ...world.env, ...ofMain } };
  const published = await hodJson('publish', ['publish'], options);
  expect(published.branch).not.toBe('main');
  expect(published.components.map(({ way }) => way)).not.toContain('takes-over');
  // What main contains, an earlier commit of it, is main's.
  git('checkout', '--quiet', 'main');
  await world.product.change('timetable', 'Show the winter sailings');
  await world.product.build();
  const onMain = await hodJson('publish', ['publish'], {
    ...options,
    env: { ...options.env, GITHUB_SHA: 'a'.repeat(40) },
  });
  expect(onMain.branch).toBe('main');
});

test('who published some content does not sign it off, whoever publishes it with a version', async () => {
  const { world } = await newWorld();
  await world.configure(/after: uat/, 'after: uat\n    gates: { sign-offs: 1 }');
  await world.product.change('timetable', 'Show the winter sailings');
  await world.product.build();
  await world.publish('--actor', 'una');
  await world.promote('uat');
  // Somebody signed off before they published it themselves: that does not count any more.
  await hodJson('sign-off', ['record', 'sign-off', '--for', 'prod', '--actor', 'siv'], world.options);
  await world.publish('--actor', 'siv', '--version', '2.5.0');
  await world.promote('uat', '--version', '2.5.0');
  for (const actor of ['una', 'siv']) {
    await world.fails('own-sign-off', 'record', 'sign-off', '--for', 'prod', '--version', '2.5.0', '--actor', actor);
    await world.fails('sign-off-missing', 'promote', 'prod', '--version', '2.5.0');
  }
  await hodJson(
    'sign-off',
    ['record', 'sign-off', '--for', 'prod', '--version', '2.5.0', '--actor', 'ole'],
    world.options,
  );
  await world.promote('prod', '--version', '2.5.0');
});

test('an entry is never older than the one before it: a clock that is behind meets no soak', async () => {
  const { world } = await newWorld();
  await world.configure(/after: uat/, 'after: uat\n    gates: { soak: 24h }');
  await world.publish();
  const folder = await mkdtemp(join(world.folder, 'clock-'));
  const behind = join(folder, 'behind.cjs');
  await writeFile(
    behind,
    'const Real = Date; const off = 25 * 3600e3; globalThis.Date = class extends Real { constructor(...given) { given.length === 0 ? super(Real.now() - off) : super(...given); } static now() { return Real.now() - off; } };',
  );
  const promoted = await hod(['promote', 'uat'], {
    ...world.options,
    env: { ...world.env, NODE_OPTIONS: `--require ${behind}` },
  });
  expect([promoted.code, promoted.stderr]).toEqual([
    0,
    expect.stringContaining('the clock of this machine is 1500 min behind'),
  ]);
  await world.fails('not-soaked', 'promote', 'prod');
  const { events } = await hodJson('timeline', ['timeline'], world.options);
  const times = events.map(({ at }) => at);
  expect([...times].sort().reverse()).toEqual(times);
});

describe('a table of facts', () => {
  const withLedger = async (sandbox: SandboxWorld, work: (database: Database.Database) => void): Promise<void> => {
    const database = new Database(join(sandbox.world.product.folder, '.hod', 'ledger.db'));
    work(database);
    database.close();
    await Promise.resolve();
  };
  /** Prod serves 2.5.0, and was rolled back from it. */
  const rolledBack = async (): Promise<SandboxWorld> => {
    const sandbox = await newWorld();
    const { world } = sandbox;
    await world.publish();
    await world.promote('uat');
    await world.product.change('timetable', 'Show the winter sailings');
    await world.product.build();
    await world.publish('--version', '2.5.0');
    await world.promote('uat');
    await hodJson('rollback', ['rollback', 'uat', '--reason', 'turnstiles stay shut'], world.options);
    await world.fails('withdrawn', 'promote', 'uat', '--version', '2.5.0');
    return sandbox;
  };

  test.each(['withdrawn', 'environment', 'line'])(
    'from which a fact %s was deleted is refused by what relies on it',
    async (kind) => {
      const sandbox = await rolledBack();
      await withLedger(sandbox, (database) => database.exec(`DELETE FROM facts WHERE kind = '${kind}'`));
      const command = kind === 'line' ? ['publish', '--next', 'patch'] : ['promote', 'uat', '--version', '2.5.0'];
      await sandbox.world.fails('ledger-facts-corrupt', ...command);
    },
  );

  test('that was put back from before is refused', async () => {
    const sandbox = await newWorld();
    const { world } = sandbox;
    await world.publish();
    await world.promote('uat');
    await withLedger(sandbox, (database) => database.exec('CREATE TABLE older AS SELECT * FROM facts'));
    await world.product.change('timetable', 'Show the winter sailings');
    await world.product.build();
    await world.publish('--version', '2.5.0');
    await world.promote('uat');
    await withLedger(sandbox, (database) =>
      database.exec('DELETE FROM facts; INSERT INTO facts SELECT * FROM older; DROP TABLE older'),
    );
    await world.fails('ledger-facts-corrupt', 'promote', 'uat');
    await world.fails('ledger-facts-corrupt', 'status');
    await world.fails('ledger-facts-corrupt', 'ledger', 'verify');
  });
});
