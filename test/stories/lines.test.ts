import { readFile, writeFile } from 'node:fs/promises';
import { join } from 'node:path';
import { playLines, readPage, shellBlocks } from '../support/play-page';
import { git } from '../support/git-remote';
import { hodJson } from '../support/hod';
import { sandboxWorld, type EnvironmentName, type SandboxWorld } from '../support/world';

let sandbox: SandboxWorld;
beforeEach(async () => (sandbox = await sandboxWorld()));
afterEach(() => sandbox.close());

/** Commits to the branch that is checked out, and builds. */
async function build(note: string): Promise<void> {
  await sandbox.world.product.change('timetable', note);
  await sandbox.world.product.build();
}

/** Brings the release that is checked out into uat and prod, with the evidence that prod asks for. */
async function promoteToProd(): Promise<void> {
  const { world } = sandbox;
  await world.promote('uat', '--commit');
  await hodJson('record-result', ['record', 'result', 'smoke', '--passed', '--in', 'uat', '--commit'], world.options);
  await world.promote('prod', '--commit');
}

/** 2.4.0 and then 2.5.0 came to prod; what is checked out is the maintenance branch of 2.4. */
async function withMaintenanceBranch(): Promise<void> {
  const { world } = sandbox;
  const { product } = world;
  await world.configure('after: uat', 'after: uat\n    gates: { results: [smoke] }');
  await world.publish();
  await promoteToProd();
  git(product.folder, ['branch', 'support-2.4']);
  await build('Show the winter sailings');
  await world.publish('--version', '2.5.0');
  await promoteToProd();
}

/** The moving tags of `timetable` in prod, by the version that each leads to. */
async function tagsInProd(): Promise<Record<string, string>> {
  const tags = Object.entries((await sandbox.world.served('prod'))['timetable']?.tags ?? {});
  const isVersion = (tag: string): boolean => /^\d+\.\d+\.\d+$/.test(tag);
  const versions = tags.filter(([tag]) => isVersion(tag));
  const moving = tags.filter(([tag]) => !isVersion(tag));
  return Object.fromEntries(
    moving.map(([tag, digest]) => [tag, versions.find(([, each]) => each === digest)?.[0] ?? digest]),
  );
}

/** What an environment serves: the release, and those of its lines. */
async function serves(environment: EnvironmentName): Promise<string> {
  const { environments } = await sandbox.world.status(environment);
  const [first] = environments[0]?.components ?? [];
  return [first?.version, ...(first?.lines ?? []).map(({ line, version }) => `${line}: ${version}`)].join(' ');
}

const rollback = (...args: string[]) => hodJson('rollback', ['rollback', 'prod', ...args], sandbox.world.options);

test('the stories of a hotfix, and of a bad one, are played as the docs tell them', async () => {
  const { world } = sandbox;
  await withMaintenanceBranch();
  const [story = '', bad = ''] = shellBlocks(await readPage('docs/years.md'));
  const [checkout = '', hotfix = ''] = story.split('./build.sh\n');
  await playLines(checkout, world);
  await build('Close the gate at night');
  const said = await playLines(hotfix, world);
  expect(said).toMatch(/== status\n[^]*│ 2\.5\.0 .*│ 2\.5\.0 .*│ 2\.5\.0 [^]*│ also 2\.4\.1 +│ +│ also 2\.4\.1/);
  expect(await tagsInProd()).toEqual({ '2.4': '2.4.1', '2.5': '2.5.0', '2': '2.5.0', latest: '2.5.0' });

  await build('Open the gate at noon');
  const told = await playLines(bad.replace('./build.sh\n', ''), world);
  expect(told).toMatch(/--dry-run\nWould roll line 2\.4 of prod back to 2\.4\.1\n/);
  expect(told).toMatch(
    /Rolled line 2\.4 of prod back to 2\.4\.1\n {2}because: the gate stays open\n {2}withdrawn 2\.4\.2 /,
  );
  expect(told).toMatch(/Proved: prod serves what was published and tested\n.*2\.5\.0.*\n.*2\.4\.1 .* on line 2\.4/);
  expect(told).toMatch(/withdrawn +prod +line 2\.4: the gate stays open/);
  expect(await tagsInProd()).toEqual({ '2.4': '2.4.1', '2.5': '2.5.0', '2': '2.5.0', latest: '2.5.0' });
  expect(await serves('prod')).toBe('2.5.0 2.4: 2.4.1');
  await world.fails('withdrawn', 'promote', 'prod', '--commit');

  // The same command again is the same rollback; a later one goes further back, to what prod served before 2.5.0.
  expect(await rollback('--line', '2.4', '--reason', 'the gate stays open')).toMatchObject({
    line: '2.4',
    withdrawn: [],
  });
  await world.fails('line-served', 'rollback', 'prod', '--line', '2.5', '--reason', 'it leaks');
  await world.fails('not-a-line', 'rollback', 'prod', '--line', '', '--reason', 'it leaks');
  await world.fails('no-such-line', 'rollback', 'prod', '--line', '2.7', '--reason', 'it leaks');
  await world.fails('not-served-before', 'rollback', 'prod', '--line', '2.4', '--to', '2.4.2', '--reason', 'it leaks');
  await rollback('--line', '2.4', '--reason', 'it leaks');
  expect(await serves('prod')).toBe('2.5.0 2.4: 2.4.0');
  expect((await rollback('--line', '2.4', '--reason', 'all of them leak')).components).toMatchObject(
    Array.from({ length: 4 }, () => ({ digest: null, changed: true })),
  );
  expect(await tagsInProd()).toEqual({ '2.5': '2.5.0', '2': '2.5.0', latest: '2.5.0' });
  expect(await serves('prod')).toBe('2.5.0');
  // prod served 2.4.0 before 2.5.0, and does not go back to it.
  await world.fails('nothing-before', 'rollback', 'prod', '--reason', 'it leaks too');
  // The rules that admitted it asked for evidence, which somebody takes back.
  const failed = ['record', 'result', 'smoke', '--failed', '--in', 'uat', '--version', '2.5.0'];
  await hodJson('record-result', failed, world.options);
  const proved = await world.hod('prove', 'prod');
  expect(proved).toMatchObject({
    code: 4,
    stdout: expect.stringMatching(/evidence-missing +2\.5\.0 in prod: una recorded on .* failed in uat/),
  });
  await hodJson('ledger-verify', ['ledger', 'verify'], world.options);
});

test('a line waits, is gated and drifts by itself', async () => {
  const { world } = sandbox;
  const { product } = world;
  await withMaintenanceBranch();
  git(product.folder, ['checkout', '-q', 'support-2.4']);
  await build('Close the gate at night');
  await world.publish('--version', '2.4.1');
  await world.promote('uat', '--commit');
  const { environments } = await world.status('prod');
  expect(environments[0]?.waiting).toMatchObject({
    components: [],
    lines: [{ line: '2.4', version: '2.4.1' }],
    unmet: [{ gate: 'result smoke', of: '2.4.1' }],
  });
  // The branch was cut before prod asked for something else: what counts is the newest.
  git(product.folder, ['checkout', '-q', 'main']);
  await world.configure('results: [smoke]', 'soak: 1h');
  const refused = await world.fails('not-soaked', 'promote', 'prod', '--version', '2.4.1');
  expect(refused.why).toMatch(/uat has served .*; prod requires/);
  await world.configure(/\n *gates: .*soak.*/, '');
  await world.promote('prod', '--version', '2.4.1');
  // Somebody moves the tag of the line.
  const { tags = {} } = (await world.served('prod'))['timetable'] ?? {};
  const repository = `http://127.0.0.1:${world.ports.prod}/v2/skerry/timetable/manifests`;
  const manifest = await fetch(`${repository}/${tags['2.5.0']}`, { headers: { accept: '*/*' } });
  await fetch(`${repository}/2.4`, {
    method: 'PUT',
    headers: { 'content-type': manifest.headers.get('content-type') ?? '' },
    body: Buffer.from(await manifest.arrayBuffer()),
  });
  for (const args of [['prod'], ['prod', '--check']]) {
    const run = await world.hod('status', ...args);
    expect(run.stdout).toMatch(/drift +prod line 2\.4 timetable: 2\.4 points to sha256:/);
    expect(run.code).toBe(args.length === 1 ? 0 : 4);
  }
  await world.hod('restore', 'prod');
  expect((await world.hod('status', 'prod', '--check')).code).toBe(0);
});

test('a component goes with the next release, comes back by a rollback, and never with an older build', async () => {
  const { world } = sandbox;
  const { product } = world;
  await world.publish();
  await promoteToProd();
  git(product.folder, ['branch', 'support-2.4']);
  await build('Close the gate at night');
  git(product.folder, ['branch', 'late']);
  const before = await readFile(join(product.folder, 'hod.yaml'), 'utf8');
  await world.configure(/ {2}tide-watch:\n(?: {4}.*\n)*/, '');
  await build('Show the winter sailings');
  expect(await world.publish('--version', '2.5.0')).toMatchObject({ retires: ['tide-watch'] });
  expect(await names('dev')).not.toContain('tide-watch');
  await hodJson('rollback', ['rollback', 'dev', '--reason', 'the gauges are missed'], world.options);
  expect(await names('dev')).toContain('tide-watch');

  await build('Read the tide elsewhere');
  const [, , story = ''] = shellBlocks(await readPage('docs/years.md'));
  const said = await playLines(story, world);
  expect(said).toMatch(/== publish --next minor\n[^]*retires {2}tide-watch: dev serves it no more; its tags stay/);
  expect(said).toMatch(/== promote uat\n[^]*retires {2}tide-watch: uat serves it no more; its tags stay/);
  expect([await names('dev'), await names('uat')].flat()).not.toContain('tide-watch');
  expect(await names('prod')).toContain('tide-watch');
  expect(Object.keys((await world.served('uat'))['tide-watch']?.tags ?? {})).toContain('uat');
  expect((await world.hod('timeline', '--env', 'uat')).stdout).toMatch(/promoted .* from dev, tide-watch retires/);
  expect((await world.hod('prove', 'uat')).stdout).not.toContain('tide-watch');
  expect((await world.hod('status', '--check')).code).toBe(0);

  // References to it are named, in deployment files of where it retired and of where it is still served, and fail nothing.
  for (const [environment, why] of [
    ['uat', 'tide-watch retired: uat no longer serves it'],
    ['prod', 'hod.yaml has no tide-watch any more; prod still serves it'],
  ] as const) {
    const file = join(world.folder, `${environment}.yaml`);
    const image = `${world.repository(environment, 'tide-watch')}:2.4`;
    await writeFile(file, `image: ${image}\n`);
    const pointed = await hodJson('point', ['point', environment, file, '--check'], world.options);
    expect(pointed.files).toMatchObject([
      { retired: [{ line: 1, object: image, why }], others: 0, changes: [], left: [] },
    ]);
  }

  // An older build that comes late does not bring it back.
  git(product.folder, ['checkout', '-q', 'late']);
  await writeFile(join(product.folder, 'hod.yaml'), before);
  await product.build();
  const late = await world.publish('--branch', 'main');
  expect(late.components.map(({ way }) => way)).toEqual(['held', 'held', 'beside', 'held']);
  expect(late.components[2]?.wayReason).toContain('tide-watch retired: dev serves a newer release without it');
  expect(await names('dev')).not.toContain('tide-watch');
});

/** The components that an environment serves. */
async function names(environment: EnvironmentName): Promise<string[]> {
  const { environments } = await sandbox.world.status(environment);
  return (environments[0]?.components ?? []).map(({ component }) => component);
}
