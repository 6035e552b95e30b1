import { rm } from 'node:fs/promises';
import { join } from 'node:path';
import { ciVariables } from '../support/ci-variables';
import { git } from '../support/git-remote';
import { hod, hodJson } from '../support/hod';
import { components, sandboxWorld, type EnvironmentName, type SandboxWorld } from '../support/world';
import { promoteResultSchema } from '../../src/results/promote';

let sandbox: SandboxWorld;
beforeEach(async () => (sandbox = await sandboxWorld()));
afterEach(() => sandbox.close());

/** Commits to the branch that is checked out, and builds. */
async function build(note: string): Promise<string> {
  const { product } = sandbox.world;
  const commit = await product.change('timetable', note);
  await product.build();
  return commit;
}

/** Builds a commit again, as a pipeline that comes late does. */
async function restore(commit: string): Promise<void> {
  const { product } = sandbox.world;
  product.checkout(`late-${commit.slice(0, 7)}`, commit);
  await product.build();
}

const rollback = (environment: EnvironmentName, ...args: string[]) =>
  hodJson('rollback', ['rollback', environment, ...args], sandbox.world.options);
const record = (...args: string[]) => hodJson('record-result', ['record', 'result', ...args], sandbox.world.options);
const signOff = (...args: string[]) => hodJson('sign-off', ['record', 'sign-off', ...args], sandbox.world.options);

/** The releases that an environment serves. */
async function serves(environment: EnvironmentName): Promise<string[]> {
  const { environments } = await sandbox.world.status(environment);
  return [...new Set(environments[0]?.components.map(({ version, commit }) => version ?? commit))];
}

/** What a tag of `timetable` leads to. */
async function tagged(environment: EnvironmentName, tag: string): Promise<string | undefined> {
  return (await sandbox.world.served(environment))['timetable']?.tags[tag];
}

const digestOf = ({ components: all }: { components: readonly { component: string; digest: string | null }[] }) =>
  all.find(({ component }) => component === 'timetable')?.digest;
const waysOf = ({ components: all }: { components: readonly { way: string }[] }) => [
  ...new Set(all.map(({ way }) => way)),
];

test('a pull request leaves dev alone, the main branch goes on, and what was not merged goes nowhere', async () => {
  const { world } = sandbox;
  const { product } = world;
  await world.publish();
  const base = product.head();
  product.checkout('winter', base);
  const unmerged = await build('Try the winter sailings');
  world.env = {
    ...ciVariables({ commit: unmerged }),
    CI_PIPELINE_EVENT: 'pull_request',
    CI_COMMIT_SOURCE_BRANCH: 'main',
    CI_COMMIT_TARGET_BRANCH: 'main',
  };
  // Somebody else's branch may well be called main.
  const theirs = await hod(['publish'], world.options);
  expect(theirs).toMatchObject({ code: 0, stdout: expect.stringContaining('dev still serves 2.4.0; this release') });
  expect(theirs.stdout).toContain('this one is of a pull request');
  // Whatever a pull request asks for, no version is taken from those who come after it.
  const refused = await world.fails('not-followed', 'publish', '--next', 'minor');
  expect(refused.next).toContain('merge the commit into main');
  await world.fails('not-followed', 'publish', '--version', '9.9.9', '--branch', 'main');
  product.tag('v9.9.8');
  expect((await world.publish()).version).toBeNull();
  world.env = {};
  const asked = sandbox.requests.dev.length;
  await world.fails('not-followed', 'publish');
  git(product.folder, ['tag', '--delete', 'v9.9.8']);
  await world.fails('not-followed', 'publish', '--next', 'minor');
  expect(sandbox.requests.dev.length).toBe(asked);
  const ours = await world.publish();
  expect(waysOf(ours)).toEqual(['beside']);
  expect(ours.components[0]?.wayReason).toMatch(
    /only builds of main, support-\* take over \(`follows` of dev.*of winter/,
  );
  expect(await tagged('dev', `c-${unmerged.slice(0, 12)}`)).toBe(digestOf(ours));
  expect(await serves('dev')).toEqual(['2.4.0']);
  await world.fails('branch-not-taken', 'promote', 'uat', '--commit', unmerged);

  product.checkout('mended', base);
  const next = await build('Mend the summer sailings');
  expect(waysOf(await world.publish('--branch', 'main'))).toEqual(['takes-over']);
  expect(await serves('dev')).toEqual([next]);
  expect((await world.publish('--branch', 'main', '--next', 'minor')).version).toBe('2.5.0');
  await world.configure('after: dev', 'after: dev\n    takes: [main, winter]');
  expect(waysOf(await world.promote('uat', '--commit', unmerged))).toEqual(['takes-over']);
  // `follows` names other branches, by name or pattern; `config show` says which count.
  await world.configure(/follows: .*/, 'follows: ["mend*"]');
  const shown = await hodJson('config-show', ['config', 'show'], world.options);
  expect(shown.environments[0]?.follows).toEqual({ branches: ['mend*'], usual: false });
  await build('Mend the summer sailings again');
  expect(waysOf(await world.publish('--branch', 'main'))).toEqual(['beside']);
  expect(waysOf(await world.publish())).toEqual(['takes-over']);
});

test('evidence of a job is of what it checked out, and where something else is served, it says which', async () => {
  const { world } = sandbox;
  const { product } = world;
  await world.publish();
  await world.promote('uat', '--commit');
  const older = product.head();
  await build('Show the winter sailings');
  await world.publish('--version', '2.5.0');
  // The job of the newer release is the first to come to uat.
  await world.promote('uat', '--commit');
  expect((await record('smoke', '--passed', '--in', 'uat')).releases[0]?.version).toBe('2.5.0');
  git(product.folder, ['checkout', '--quiet', older]);
  const unclear = await world.fails('two-releases', 'record', 'result', 'smoke', '--failed', '--in', 'uat');
  expect(unclear.object).toBe('2.4.0 and 2.5.0 in uat');
  expect(unclear.next).toContain('add --version 2.4.0');
  await world.fails('two-releases', 'record', 'sign-off', '--for', 'prod');
  expect((await record('smoke', '--failed', '--in', 'uat', '--commit')).releases[0]?.version).toBe('2.4.0');
  expect((await signOff('--for', 'prod', '--serving', '--actor', 'siv')).releases[0]?.version).toBe('2.5.0');
});

test('an older release is not promoted: it is refused, or comes beside on a line of its own; what was held goes nowhere', async () => {
  const { world } = sandbox;
  const { product } = world;
  await world.publish();
  await world.promote('uat');
  const first = product.head();
  const held = await build('Add a sailing');
  await build('Show the winter sailings');
  await world.publish('--version', '2.4.1');
  await world.promote('uat');
  await restore(held);
  const late = await world.publish('--commit', held, '--branch', 'main');
  expect(waysOf(late)).toEqual(['held']);

  const before = await world.served('uat');
  const served = await world.fails('not-newer', 'promote', 'uat', '--version', '2.4.0');
  expect(served.what).toBe('this release was served here earlier');
  expect(served.next).toContain('hod rollback uat --to 2.4.0');
  await world.fails('never-served', 'promote', 'uat', '--commit', held);
  expect(await world.served('uat')).toEqual(before);

  // A mended release of an older line arrives beside the newer one.
  product.checkout('support-2.3', first);
  await build('Mend the fares');
  await world.publish('--version', '2.3.9');
  const beside = await world.promote('uat', '--version', '2.3.9');
  expect(waysOf(beside)).toEqual(['beside']);
  expect(beside.components[0]?.tags.map(({ tag, outcome }) => `${tag} ${outcome}`)).toEqual([
    '2.3.9 created',
    'uat held',
  ]);
  expect(await serves('uat')).toEqual(['2.4.1']);
  expect((await hod(['promote', 'prod', '--version', '2.3.9', '--dry-run'], world.options)).stdout).toContain(
    'beside the release that uat serves',
  );
});

test('a broken prod is taken back in one command; what was withdrawn stays out until it is brought back on purpose', async () => {
  const { world } = sandbox;
  const { product } = world;
  await world.publish();
  for (const name of ['uat', 'prod'] as const) {
    await world.promote(name);
  }
  const good = await tagged('prod', 'latest');
  await build('Show the winter sailings');
  await world.publish('--version', '2.5.0');
  await world.promote('uat');
  const bad = digestOf(await world.promote('prod'));
  expect(await tagged('prod', 'latest')).toBe(bad);
  const promoted = sandbox.requests.prod.length;

  await world.fails('reason-missing', 'rollback', 'prod');
  const rehearsed = await rollback('prod', '--dry-run', '--reason', 'turnstiles stay shut');
  expect(rehearsed).toMatchObject({ dryRun: true, withdrawn: [{ version: '2.5.0' }] });
  expect(await tagged('prod', 'latest')).toBe(bad);
  const back = await rollback('prod', '--reason', 'turnstiles stay shut');
  expect(digestOf(back)).toBe(good);
  // Content stays where it is: what is sent is the record of the rollback, once the tags are right.
  const after = sandbox.requests.prod.slice(promoted);
  const isTag = after.map(({ method, path }) => method !== 'HEAD' && /\/manifests\/(2|2\.5|latest)$/.test(path));
  expect(after.findIndex(({ method }) => method === 'POST')).toBeGreaterThan(isTag.lastIndexOf(true));
  const sent = after.filter(({ path }) => path.includes('/blobs/uploads/'));
  expect(sent.reduce((sum, { received }) => sum + received, 0)).toBeLessThan(4_000);
  const outcomes = back.components
    .find(({ component }) => component === 'timetable')
    ?.tags.map(({ tag, outcome }) => `${tag} ${outcome}`);
  expect(outcomes?.sort()).toEqual(['2 moved', '2.5 removed', 'latest moved']);
  expect((await world.served('prod'))['timetable']?.tags).toEqual({
    '2.4.0': good,
    '2.4': good,
    '2': good,
    latest: good,
    '2.5.0': bad,
  });
  expect(await serves('prod')).toEqual(['2.4.0']);

  // The same command again is the same rollback. A pipeline that comes late brings nothing back.
  expect((await rollback('prod', '--reason', 'turnstiles stay shut')).withdrawn).toEqual([]);
  expect(await serves('prod')).toEqual(['2.4.0']);
  for (const args of [[], ['--version', '2.5.0']]) {
    expect((await world.fails('withdrawn', 'promote', 'prod', ...args)).why).toContain('turnstiles stay shut');
  }
  await world.fails('reason-missing', 'promote', 'prod', '--again');
  await rollback('dev', '--reason', 'turnstiles stay shut');
  expect(waysOf(await world.publish('--version', '2.5.0'))).toEqual(['held']);
  expect(waysOf(await world.publish())).toEqual(['held']);
  expect(await serves('dev')).toEqual(['2.4.0']);
  await world.fails('options-conflict', 'publish', '--reason', 'none');

  // A newer one passes as usual; the old one comes back on purpose.
  await build('Open the turnstiles');
  expect(waysOf(await world.publish('--version', '2.5.1'))).toEqual(['takes-over']);
  await world.fails('not-served-before', 'rollback', 'prod', '--to', '2.5.0', '--reason', 'back');
  const again = await world.promote('prod', '--again', '--reason', 'it was the gate');
  expect(waysOf(again)).toEqual(['takes-over']);
  expect(again.gates.find(({ gate }) => gate === 'withdrawn')?.detail).toContain('--again brings it back');
  expect(await tagged('prod', 'latest')).toBe(bad);
  expect(await rollback('prod', '--to', '2.4.0', '--reason', 'not again')).toMatchObject({
    withdrawn: [{ version: '2.5.0' }],
  });
  await world.fails('nothing-before', 'rollback', 'prod', '--reason', 'further');
  expect(product.head()).toMatch(/^[0-9a-f]{40}$/);
  await hodJson('ledger-verify', ['ledger', 'verify'], world.options);
});

test('what is gone back to must be whole: else nothing moves', async () => {
  const { world } = sandbox;
  await world.publish();
  await world.promote('uat');
  await build('Show the winter sailings');
  await world.publish('--version', '2.5.0');
  await world.promote('uat');
  const before = await tagged('uat', 'uat');
  const old = await tagged('uat', '2.4.0');
  await fetch(`http://127.0.0.1:${world.ports.uat}/v2/skerry/timetable/manifests/${old ?? ''}`, { method: 'DELETE' });
  expect((await world.fails('content-gone', 'rollback', 'uat', '--reason', 'it is wrong')).next).toContain('--to');
  expect(await tagged('uat', 'uat')).toBe(before);
  expect(await serves('uat')).toEqual(['2.5.0']);
  // Nor is anything written where it was not served from.
  await world.configure(`${world.host('uat')}/skerry/{image}`, `${world.host('uat')}/elsewhere/{image}`);
  await world.fails('repository-changed', 'rollback', 'uat', '--reason', 'it is wrong');
});

test('a tag that was moved by hand is said before all else, put right as such, and found by a check', async () => {
  const { world } = sandbox;
  await world.publish();
  await world.promote('uat');
  const old = await tagged('uat', 'uat');
  await build('Show the winter sailings');
  await world.publish('--version', '2.5.0');
  const now = digestOf(await world.promote('uat'));
  const address = `http://127.0.0.1:${world.ports.uat}/v2/skerry/timetable/manifests`;
  const accept = 'application/vnd.oci.image.index.v1+json';
  const manifest = await (await fetch(`${address}/${old ?? ''}`, { headers: { accept } })).text();
  await fetch(`${address}/uat`, { method: 'PUT', headers: { 'content-type': accept }, body: manifest });

  expect((await hod(['status', '--check'], world.options)).code).toBe(4);
  const rehearsed = await hod(['promote', 'uat', '--dry-run'], world.options);
  expect(rehearsed.stdout).toMatch(
    /^These tags differ from the ledger.*\n.*skerry\/timetable:uat +sha256:\w+, the ledger says/,
  );
  expect(rehearsed.stdout).toContain('Would restore');
  const restored = await world.promote('uat');
  const tag = restored.components
    .find(({ component }) => component === 'timetable')
    ?.tags.find((each) => each.tag === 'uat');
  expect(tag).toMatchObject({ outcome: 'restored', drift: { recorded: now, served: old } });
  expect(await tagged('uat', 'uat')).toBe(now);
  expect((await hod(['status', '--check'], world.options)).code).toBe(0);
  expect((await hod(['promote', 'uat'], world.options)).stdout).toMatch(/^Nothing to do/);
  // Drift is certain, silence is not.
  await world.configure(`prod.localhost:${world.ports.prod}`, 'prod.localhost:1');
  await world.configure(`uat.localhost:${world.ports.uat}`, 'uat.localhost:1');
  expect((await hod(['status', 'uat', '--check'], world.options)).code).toBe(6);
});

test('a branch that was rewritten is held until somebody says that it goes on', async () => {
  const { world } = sandbox;
  const { product } = world;
  const base = product.head();
  await world.publish();
  const old = await build('Show the winter sailings');
  await world.publish();
  product.checkout('rewritten', base);
  const rewritten = await build('Show the winter sailings, and mean it');
  const held = await world.publish('--branch', 'main');
  expect(waysOf(held)).toEqual(['held']);
  expect(held.components[0]?.wayReason).toContain('--after-rewrite');
  expect(await serves('dev')).toEqual([old]);
  await world.fails('reason-missing', 'publish', '--branch', 'main', '--after-rewrite');
  const goesOn = await world.publish('--branch', 'main', '--after-rewrite', '--reason', 'main was rebased');
  expect(waysOf(goesOn)).toEqual(['takes-over']);
  expect(await tagged('dev', 'main')).toBe(digestOf(goesOn));
  expect(await serves('dev')).toEqual([rewritten]);
});

test('a gate says what is unmet, all at once, and what would meet it; evidence opens it, and a later failure closes it', async () => {
  const { world } = sandbox;
  await world.configure(
    'after: uat',
    'after: uat\n    gates: { results: [smoke, regression], sign-offs: 2, platforms: [linux/amd64, linux/s390x], annotations: [org.skerry.checked] }',
  );
  await world.publish('--actor', 'una');
  await world.promote('uat');
  const refused = await world.fails('result-missing', 'promote', 'prod');
  expect(refused.gates.map(({ gate, code }) => `${gate} ${code}`)).toEqual([
    'result smoke result-missing',
    'result regression result-missing',
    'sign-offs sign-off-missing',
    'platforms platform-lacking',
    'annotations annotation-lacking',
  ]);
  expect(refused.next).toContain('hod record result smoke --passed --in uat --version 2.4.0');
  await world.configure(', platforms: [linux/amd64, linux/s390x], annotations: [org.skerry.checked] }', ' }');

  // A dry run shows everything, and ends as the real run would.
  const rehearsed = await hod(['promote', 'prod', '--dry-run', '--json'], world.options);
  const { gates, components: planned } = promoteResultSchema.parse(JSON.parse(rehearsed.stdout));
  expect(rehearsed.code).toBe(3);
  expect(gates.filter(({ outcome }) => outcome === 'unmet').map(({ gate }) => gate)).toEqual([
    'result smoke',
    'result regression',
    'sign-offs',
  ]);
  expect(planned.map(({ tags }) => tags.map(({ outcome }) => outcome))).toEqual(
    components.map(() => ['created', 'created', 'created', 'created']),
  );
  expect((await hod(['promote', 'prod', '--dry-run'], world.options)).stdout).toMatch(
    /^Would not promote skerry-line 2\.4\.0/,
  );

  await record('smoke', '--passed', '--in', 'uat');
  await record('regression', '--failed', '--in', 'uat', '--link', 'https://ci.skerry.test/7');
  await record('regression', '--passed', '--in', 'uat', '--version', '2.4.0');
  // The publisher does not count, nor does the same person twice.
  await world.fails('own-sign-off', 'record', 'sign-off', '--for', 'prod', '--actor', 'una');
  expect(await signOff('--for', 'prod', '--actor', 'ole')).toMatchObject({ isNew: true, by: 'ole' });
  expect(await signOff('--for', 'prod', '--actor', 'ole')).toMatchObject({ isNew: false });
  expect((await world.fails('sign-off-missing', 'promote', 'prod')).why).toBe('1 of 2 signed off: ole');
  await signOff('--for', 'prod', '--actor', 'siv');
  await record('smoke', '--failed', '--in', 'uat');
  expect((await world.fails('result-missing', 'promote', 'prod')).what).toBe('a test failed');
  await record('smoke', '--passed', '--in', 'uat');
  // Evidence says nothing of another build.
  await build('Show the winter sailings');
  await world.publish('--version', '2.5.0');
  await world.promote('uat');
  expect((await world.fails('result-missing', 'promote', 'prod')).gates).toHaveLength(3);
  expect(waysOf(await world.promote('prod', '--version', '2.4.0'))).toEqual(['takes-over']);

  await world.fails('command-line', 'record', 'result', 'smoke', '--in', 'uat');
  await world.fails('never-served', 'record', 'result', 'smoke', '--passed', '--in', 'prod', '--version', '2.5.0');
  await world.fails('first-environment', 'record', 'sign-off', '--for', 'dev');
  await hodJson('ledger-verify', ['ledger', 'verify'], world.options);
});

test('time counts: so long served, and not while nothing should enter, unless somebody says why', async () => {
  const { world } = sandbox;
  await world.configure(
    'after: uat',
    'after: uat\n    gates: { soak: 1h, freeze: [{ from: mon 00:00, to: mon 00:00, zone: Europe/Dublin }] }',
  );
  await world.publish();
  await world.promote('uat');
  const refused = await world.fails('not-soaked', 'promote', 'prod');
  expect(refused.gates.map(({ code }) => code)).toEqual(['not-soaked', 'frozen']);
  await world.configure('soak: 1h, ', '');
  await world.fails('frozen', 'promote', 'prod');
  await world.fails('reason-missing', 'promote', 'prod', '--despite-freeze');
  const promoted = await world.promote('prod', '--despite-freeze', '--reason', 'the gate at Gull Rock is open');
  expect(promoted.gates.find(({ gate }) => gate === 'freeze')?.detail).toContain('promoted on purpose');
});

test('an image may opt in to tags of its own: every build of it rolls out, and the others do not', async () => {
  const { world } = sandbox;
  await world.configure(
    'inputs: [services/timetable/**]',
    'tags: { dev: { moving: [rolling] } }\n    inputs: [services/timetable/**]',
  );
  await world.publish();
  await build('Show the winter sailings');
  const published = await world.publish();
  expect(await tagged('dev', 'rolling')).toBe(digestOf(published));
  expect((await world.served('dev'))['tide-watch']?.tags['rolling']).toBeUndefined();
  await world.configure('tags: { dev: {', 'tags: { dve: {');
  await world.configure(`${world.host('prod')}/skerry`, `${world.host('uat')}/skerry`);
  await world.configure('"{major}", latest', '"{major}", uat');
  await world.configure(
    'after: dev',
    'after: dev\n    follows: [main]\n    gates: { soak: 1w, freeze: [{ from: fri, to: mon 08:00, zone: Gull/Rock }] }',
  );
  const { why } = await world.fails('config-invalid', 'status');
  expect(why).toContain('there is no environment dve; similar: dev');
  expect(why).toContain('must be a day of the week or a date, and a time: fri 16:00');
  expect(why).toContain('must name a time zone');
  expect(why).toContain('must be a number of seconds, minutes, hours or days');
});

test('a ledger that is empty is called so, and a publication goes on from what the registry tells', async () => {
  const { world } = sandbox;
  await world.publish();
  await rm(join(world.product.folder, '.hod'), { recursive: true });
  expect((await world.fails('ledger-empty', 'promote', 'uat')).object).toBe(
    join(world.product.folder, '.hod', 'ledger.db'),
  );
  expect((await hod(['status'], world.options)).stdout).toMatch(/^This ledger is empty: .*ledger\.db/);
  const commit = await build('Show the winter sailings');
  const again = await hod(['publish'], world.options);
  expect(again.stderr).toContain('this ledger was empty');
  expect(await serves('dev')).toEqual([commit]);
});
