import { execFileSync } from 'node:child_process';
import { mkdtempSync, readFileSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { hodJson } from '../support/hod';
import { makeKey } from '../support/signing';
import { components, sandboxWorld, type SandboxWorld } from '../support/world';

/** What a branch may not do to the rules, whatever it writes in hod.yaml, options and variables. */

let sandbox: SandboxWorld;
let folder: string;
const places = mkdtempSync(join(tmpdir(), 'hod-remotes-'));
const git = (...args: string[]): string =>
  execFileSync('git', ['-c', 'advice.detachedHead=false', ...args], { cwd: folder, encoding: 'utf8', stdio: 'pipe' });
const edit = (from: string | RegExp, to: string): void => {
  const file = join(folder, 'hod.yaml');
  const before = readFileSync(file, 'utf8');
  expect(before.replace(from, to)).not.toBe(before);
  writeFileSync(file, before.replace(from, to));
};
const commit = (text: string): void => {
  git('commit', '-qam', text);
};
/** Returns to main, and begins a branch there. */
const branch = (name: string): void => {
  git('checkout', '-q', '-B', name, 'main');
};
const bare = (name: string): string => {
  const place = join(places, name);
  execFileSync('git', ['init', '-q', '--bare', '-b', 'main', place]);
  return place;
};
const gates =
  'gates: { sign-offs: 1, attested: [{ type: https://skerry.test/built/v1, by: build }], results: [smoke] }';
const why = (error: { why: unknown }): string => [error.why].flat().join('\n');
const promote = (...args: string[]) => sandbox.world.fails('rules-changed', 'promote', 'uat', ...args);
const release = async (version: string, ...args: string[]) => {
  await sandbox.world.product.build(version);
  return hodJson('publish', ['publish', '--version', version, ...args], sandbox.world.options);
};

beforeAll(async () => {
  sandbox = await sandboxWorld();
  folder = sandbox.world.product.folder;
  git('update-index', '--no-skip-worktree', 'hod.yaml');
  makeKey(folder, 'build', 'p256');
  makeKey(folder, 'mole', 'p256');
  edit('    tags: { fixed: ["{version}"], moving: [uat] }', `$&\n    ${gates}`);
  edit(/^environments:/m, 'trust: { keys: { build: { file: build.pub.pem } } }\nenvironments:');
  writeFileSync(join(folder, '.gitignore'), '.hod/\nout/\n*.key\n');
  git('add', '.');
  commit('Say whom we trust');
  git('remote', 'add', 'origin', bare('line.git'));
  git('push', '-q', '-u', 'origin', 'main');
  await release('2.5.0');
});
afterAll(() => sandbox.close());
afterEach(() => git('checkout', '-q', '-f', 'main'));

test('the rules that stand at the head of main are in force, and a later commit of main brings others', async () => {
  const { world } = sandbox;
  const compare = () => hodJson('config-compare', ['config', 'compare', 'uat'], world.options);
  expect((await compare()).environments).toEqual([
    {
      environment: 'uat',
      inForce: expect.objectContaining({ source: { remote: join(places, 'line'), branch: 'main' } }),
      ...{ differences: [], accepted: true, reason: null },
    },
  ]);
  edit(', results: [smoke]', ', results: [smoke, load]');
  expect((await compare()).environments[0]).toMatchObject({
    differences: ['results: smoke in force, smoke, load here'],
    accepted: false,
    reason: expect.stringMatching(/^hod\.yaml differs from the head of main \(\w{12}\)$/),
  });
  commit('Test the load too');
  expect((await compare()).environments[0]?.accepted).toBe(false);
  git('push', '-q', 'origin', 'main');
  expect((await compare()).environments[0]).toMatchObject({
    accepted: true,
    reason: expect.stringMatching(/head of main/),
  });
  await release('2.5.1');
  expect((await compare()).environments[0]?.differences).toEqual([]);
});

test.each<[string, () => void, RegExp]>([
  [
    'gates that a branch deletes',
    () => edit(/^ {4}gates: .*\n/m, ''),
    /hod\.yaml differs from the head of main[^]*results: smoke, load in force, none here[^]*sign-offs: 1 in force, none here/,
  ],
  [
    'a key that a branch replaces',
    () => writeFileSync(join(folder, 'build.pub.pem'), readFileSync(join(folder, 'mole.pub.pem'))),
    /build\.pub\.pem differs from the head of main[^]*trust build: ECDSA P-256 sha256:\w+ in force, ECDSA P-256 sha256:\w+ here/,
  ],
  ['a key of another file', () => edit('file: build.pub.pem', 'file: mole.pub.pem'), /trust build/],
  [
    'tags that a branch changes',
    () => edit('moving: [uat]', 'moving: [uat, stable]'),
    /tags: fixed \{version\}, moving uat/,
  ],
  [
    'an environment that a branch leaves out',
    () => {
      edit(/^ {2}uat:\n(?: {4}.*\n)+/m, '');
      edit('after: uat', 'after: dev');
    },
    /way: dev → uat → prod in force, dev → prod here/,
  ],
  [
    'branches that a branch follows',
    () => edit('follows: [main, "support-*"]', 'follows: ["**"]'),
    /follows: main, support-\* in force, \*\* here/,
  ],
  [
    'rules in a file that is extended',
    () => {
      writeFileSync(join(folder, 'base.yaml'), 'trust: { keys: { build: { file: mole.pub.pem } } }\n');
      edit(/^trust: .*\n/m, '');
      edit(/^product/m, 'extends: base.yaml\nproduct');
      git('add', 'base.yaml');
    },
    /trust build/,
  ],
])('do not count: %s', async (_, change, reason) => {
  const { world } = sandbox;
  branch('evil');
  change();
  commit('Loosen the rules');
  git('push', '-q', '-f', 'origin', 'evil');
  const environment = readFileSync(join(folder, 'hod.yaml'), 'utf8').includes('  uat:') ? 'uat' : 'prod';
  if (environment === 'prod') {
    await world.fails('rules-changed', 'promote', 'prod', '--version', '2.5.1');
  }
  for (const args of [[], ['--new-way-in', '--reason', 'in a hurry']]) {
    const error = await world.fails('rules-changed', 'promote', environment, '--version', '2.5.1', ...args);
    expect(why(error)).toMatch(reason);
    expect(error.next).toContain(`hod record rules --for ${environment}`);
  }
  // What was published from the branch has not brought them into force.
  await world.product.build('evil');
  await hodJson('publish', ['publish', '--branch', 'main'], world.options);
  await world.fails('rules-changed', 'promote', environment, '--version', '2.5.1');
});

test('the head of a branch for an old line does not bring its rules back', async () => {
  const { world } = sandbox;
  git('checkout', '-q', '-B', 'support-2.4', 'main~1');
  git('push', '-q', '-f', 'origin', 'support-2.4');
  const error = await world.fails('rules-changed', 'promote', 'uat', '--version', '2.5.1');
  expect(why(error)).toMatch(/they stand at the head of support-2\.4, which does not contain commit \w{12}/);
});

test('another remote, none, and one that does not answer vouch for nothing', async () => {
  const { world } = sandbox;
  branch('evil');
  edit(/^ {4}gates: .*\n/m, '');
  commit('Loosen the rules');
  git('remote', 'set-url', 'origin', bare('mole.git'));
  git('push', '-q', 'origin', 'evil:main');
  expect(why(await promote('--version', '2.5.1'))).toContain(
    `${join(places, 'mole')}, and the rules in force are of ${join(places, 'line')}`,
  );
  git('remote', 'set-url', 'origin', join(places, 'nowhere.git'));
  expect(why(await promote('--version', '2.5.1'))).toMatch(/did not say where its branches are: fatal/);
  git('remote', 'rename', 'origin', 'mine');
  git('remote', 'add', 'yours', join(places, 'mole.git'));
  expect(why(await promote('--version', '2.5.1'))).toContain('in no git clone with a remote origin');
  git('remote', 'remove', 'yours');
  git('remote', 'rename', 'mine', 'origin');
  git('remote', 'set-url', 'origin', join(places, 'line.git'));
  git('fetch', '-q');
  expect((await world.hod('status')).code).toBe(0);
});

test('a commit that main does not contain takes over nothing, has no version, and moves no tag of main', async () => {
  const { world } = sandbox;
  const mainTag = async () => (await world.served('dev'))['timetable']?.tags['main'];
  const served = await mainTag();
  branch('evil');
  edit('follows: [main, "support-*"]', 'follows: ["**"]');
  commit('Follow everything');
  await world.product.build('evil');
  for (const args of [[], ['--branch', 'main'], ['--branch', 'evil']]) {
    const published = await hodJson('publish', ['publish', ...args], world.options);
    expect(published.components.map(({ way }) => way)).toEqual(components.map(() => 'beside'));
    expect(published.components.flatMap(({ tags }) => tags.map(({ tag }) => tag))).not.toContain('main');
  }
  const error = await world.fails('not-followed', 'publish', '--branch', 'main', '--version', '9.0.0');
  expect(why(error)).toMatch(/does not say that it is of main: main at .* does not contain it/);
  expect(await mainTag()).toBe(served);
  // Pushed to a branch of its own, it is a build of that branch, and no more.
  git('push', '-q', '-f', 'origin', 'evil');
  const pushed = await hodJson('publish', ['publish'], world.options);
  expect(pushed.components.flatMap(({ tags }) => tags.map(({ tag }) => tag))).toContain('evil');
});

test('people who may sign off accept other rules, on record: as many as a release needs', async () => {
  const { world } = sandbox;
  edit('sign-offs: 1', 'sign-offs: 2');
  commit('Ask two people');
  git('push', '-q', 'origin', 'main');
  await release('2.5.2');
  branch('night');
  edit(/^ {4}gates: .*\n/m, '    gates: { sign-offs: 1 }\n');
  commit('One is enough at night');
  await promote('--version', '2.5.2');
  const accept = (by: string, ...more: string[]) =>
    hodJson(
      'record-rules',
      ['record', 'rules', '--for', 'uat', '--reason', 'at night', '--actor', by, ...more],
      world.options,
    );
  expect(await accept('siv')).toMatchObject({ accepted: ['siv'], needed: 2, inForce: false });
  expect(await accept('siv')).toMatchObject({ isNew: false, accepted: ['siv'], inForce: false });
  await promote('--version', '2.5.2');
  expect(await accept('ole', '--dry-run')).toMatchObject({ inForce: true, dryRun: true });
  await promote('--version', '2.5.2');
  expect(await accept('ole')).toMatchObject({ accepted: ['siv', 'ole'], inForce: true });
  await hodJson(
    'sign-off',
    ['record', 'sign-off', '--for', 'uat', '--version', '2.5.2', '--actor', 'siv'],
    world.options,
  );
  expect((await world.promote('uat', '--version', '2.5.2')).to).toBe('uat');
  const { events } = await hodJson('timeline', ['timeline', '--kind', 'rules-accepted'], world.options);
  expect(events.map(({ actor, detail }) => [actor, detail])).toEqual([
    ['ole', 'in force: at night'],
    ['siv', 'more people must accept them: at night'],
  ]);
  // Until main has others.
  git('checkout', '-q', '-f', 'main');
  edit('sign-offs: 2', 'sign-offs: 3');
  commit('Ask three people');
  git('push', '-q', 'origin', 'main');
  await release('2.5.3');
  git('checkout', '-q', '-f', 'night');
  await promote('--version', '2.5.3');
});

test('a repository that moves takes its word along once somebody says so, on record', async () => {
  const { world } = sandbox;
  git('remote', 'set-url', 'origin', bare('moved.git'));
  git('push', '-q', 'origin', 'main');
  git('fetch', '-q', '--prune');
  const publish = async (note: string) => {
    git('commit', '-q', '--allow-empty', '-m', note);
    git('push', '-q', 'origin', 'main');
    await world.product.build(note);
    return hodJson('publish', ['publish'], world.options);
  };
  expect((await publish('before')).components.map(({ way }) => way)).toEqual(components.map(() => 'beside'));
  const accept = ['record', 'rules', '--for', 'dev', '--reason', 'the repository moved', '--actor', 'siv'];
  expect(await hodJson('record-rules', accept, world.options)).toMatchObject({
    differences: [`remote: main of ${join(places, 'line')} in force, main of ${join(places, 'moved')} here`],
    inForce: true,
  });
  expect((await publish('after')).components.map(({ way }) => way)).toEqual(components.map(() => 'takes-over'));
});

test('where sign-offs are proven, rules are accepted by signatures of the same people, whomever the branch trusts', async () => {
  const { world } = sandbox;
  const key = (name: string): string => join(places, name);
  const line = (name: string): string => `${name}@skerry.test ${readFileSync(key(`${name}.pub`), 'utf8')}`;
  for (const name of ['una', 'siv', 'mole']) {
    execFileSync('ssh-keygen', ['-q', '-t', 'ed25519', '-N', '', '-C', name, '-f', key(name)]);
  }
  writeFileSync(join(folder, 'people'), line('una') + line('siv'));
  edit(/sign-offs: \d/, 'sign-offs: { count: 2, from: [managers], proven: true }');
  edit(/^trust: \{/m, 'groups: { managers: [una@skerry.test, siv@skerry.test] }\ntrust: { people: { file: people },');
  git('add', '.');
  commit('Ask for signatures');
  git('push', '-q', 'origin', 'main');
  await release('2.6.0');
  branch('loose');
  edit(/sign-offs: \{[^}]*\}/, 'sign-offs: 1');
  edit('managers: [', 'managers: [mole@skerry.test, ');
  writeFileSync(join(folder, 'people'), line('una') + line('siv') + line('mole'));
  commit('Let one of us do');
  const given = ['record', 'rules', '--for', 'uat', '--reason', 'at night'];
  const byName = await world.fails('sign-off-uncounted', ...given, '--actor', 'una@skerry.test');
  expect(why(byName)).toContain('una@skerry.test did not sign it, and a name can be made up');
  expect(why(await world.fails('sign-off-uncounted', ...given, '--actor', 'mole@skerry.test'))).toContain(
    'not of managers',
  );
  expect(why(await world.fails('signing-failed', ...given, '--sign', key('mole')))).toContain('of no key in `trust');
  const accept = (name: string) => hodJson('record-rules', [...given, '--sign', key(name)], world.options);
  expect(await accept('una')).toMatchObject({ accepted: ['una@skerry.test'], needed: 2, inForce: false });
  expect(await accept('una')).toMatchObject({ isNew: false, inForce: false });
  await promote('--version', '2.6.0');
  expect(await accept('siv')).toMatchObject({ accepted: ['una@skerry.test', 'siv@skerry.test'], inForce: true });
});
