import { copyFile, readFile, rename, rm, writeFile } from 'node:fs/promises';
import { join } from 'node:path';
import { writeSampleLayout } from '../../src/sandbox/sample/sample-image';
import { hod, hodJson } from '../support/hod';
import { readRepository } from '../support/registry-reader';
import { components, sandboxWorld, type SandboxWorld } from '../support/world';

let sandbox: SandboxWorld;
beforeEach(async () => (sandbox = await sandboxWorld()));
afterEach(() => sandbox.close());

const out = (...path: string[]): string => join(sandbox.world.product.folder, ...path);
const stage = (...args: string[]) => hodJson('stage', ['stage', ...args], sandbox.world.options);
const tagsOf = async (component: string): Promise<string[]> =>
  Object.keys((await readRepository(sandbox.world.ports.dev, `skerry/${component}`)).tags);

/** Takes the build outputs away, as on the machine of a job that built nothing. */
async function elsewhere(): Promise<void> {
  await rename(out('out'), out('out-elsewhere'));
}

test('jobs that built apart stage their parts; publish waits for the last, assembles, and seals them', async () => {
  const { world, requests } = sandbox;
  // What one publish of everything gives, for comparison.
  const undisturbed = await world.publish();
  await rm(out('.hod'), { recursive: true });
  await elsewhere();

  const arm = await stage('timetable', '--from', 'out-elsewhere/timetable-arm64.tar', '--platform', 'linux/arm64');
  expect(arm.components).toMatchObject([{ component: 'timetable', platforms: ['linux/arm64'], outcome: 'staged' }]);
  expect(arm.missing).toContainEqual({ component: 'timetable', missing: ['linux/amd64'] });
  const protection = (await tagsOf('timetable')).filter((tag) => tag.startsWith('hod-staged-'));
  expect(protection).toEqual([`hod-staged-${arm.components[0]?.digest.slice(7, 31)}`]);
  expect((await stage('timetable', '--from', 'out-elsewhere/timetable-arm64.tar')).components).toMatchObject([
    { outcome: 'unchanged', transfer: { blobsSent: 0 } },
  ]);
  const other = ['--from', 'out-elsewhere/timetable-amd64', '--platform', 'linux/arm64'];
  await world.fails('other-platform', 'stage', 'timetable', ...other);
  // The job that should have built amd64 built arm64 once more, from something else.
  const component = { platform: 'linux/arm64', revision: world.product.head(), layers: [{ 'app/a': 'a' }] };
  await writeSampleLayout(out('out-elsewhere', 'again'), [component]);
  const asked = requests.dev.length;
  const taken = await world.fails('staged-otherwise', 'stage', 'timetable', '--from', 'out-elsewhere/again');
  expect(taken).toMatchObject({
    object: 'timetable linux/arm64',
    why: expect.stringContaining(arm.components[0]?.digest ?? ''),
  });
  expect(requests.dev.slice(asked).every(({ method }) => method === 'GET' || method === 'HEAD')).toBe(true);
  await stage('timetable', '--from', 'out-elsewhere/again', '--replace');
  await stage('timetable', '--from', 'out-elsewhere/timetable-arm64.tar', '--replace');
  const missing = await world.fails('output-missing', 'publish');
  expect(missing.object).toContain('timetable: linux/amd64');
  expect(missing.next).toContain('--wait');
  await world.fails('wait-ended', 'publish', '--wait', '1s');

  const waiting = hod(['publish', '--wait', '2m'], world.options);
  await stage('timetable', '--from', 'out-elsewhere/timetable-amd64');
  await stage('boarding-gate', '--from', 'out-elsewhere/boarding-gate.tar');
  const before = requests.dev.length;
  await stage('tide-watch', '--from', 'out-elsewhere/tide-watch');
  const sealed = await waiting;
  expect(sealed).toMatchObject({ code: 0, stderr: expect.stringContaining('waiting for ') });
  expect(sealed.stderr).toContain('tide-watch (linux/amd64, linux/arm64)');
  // Sealing sends no layer: everything was there.
  const sent = requests.dev
    .slice(before)
    .filter(({ method, path }) => method === 'PATCH' && path.includes('/skerry/t'));
  expect(sent).toEqual([]);

  const again = await world.publish();
  expect(again.components.map(({ digest }) => digest)).toEqual(undisturbed.components.map(({ digest }) => digest));
  for (const component of components) {
    // What protected the parts is gone.
    expect((await tagsOf(component)).filter((tag) => tag.startsWith('hod-'))).toEqual([]);
  }
  await world.promote('uat');
  expect((await world.served('uat'))['timetable']?.tags).toEqual({
    '2.4.0': undisturbed.components[0]?.digest,
    uat: undisturbed.components[0]?.digest,
  });
});

test('an output that is still being written is waited for, and read when it is complete', async () => {
  const { world } = sandbox;
  const whole = await readFile(out('out', 'boarding-gate.tar'));
  await writeFile(out('out', 'boarding-gate.tar'), whole.subarray(0, 20_000));
  await world.fails('archive-corrupt', 'publish');
  const [half, file] = [whole.subarray(0, 40_000), out('out', 'boarding-gate.tar')];
  const waiting = hod(['publish', '--wait', '1m'], {
    ...world.options,
    started: ({ stderr }) =>
      stderr?.on('data', (text: string) => {
        if (text.includes('waiting for')) {
          void writeFile(file, half).then(() => writeFile(file, whole));
        }
      }),
  });
  expect(await waiting).toMatchObject({ code: 0, stderr: expect.stringContaining('waiting for boarding-gate') });
  // Where it never is, what is wrong with it is said.
  await writeFile(out('out', 'boarding-gate.tar'), whole.subarray(0, 20_000));
  expect((await world.fails('archive-corrupt', 'publish', '--wait', '1s')).why).toContain('cut off');
});

test('an image goes by itself only where hod.yaml allows it', async () => {
  const { world } = sandbox;
  await world.publish();
  expect(await world.fails('published-together', 'publish', '--only', 'tide-watch')).toMatchObject({
    object: 'tide-watch',
    next: expect.stringContaining('publish-alone: true'),
  });
  expect((await world.fails('component-unknown', 'publish', '--only', 'tide-wach')).next).toBe('similar: tide-watch');
  expect((await world.fails('component-unknown', 'stage', 'tide-wach')).next).toBe('similar: tide-watch');
  await world.configure('from: out/tide-watch', 'publish-alone: true\n    from: out/tide-watch');
  await world.product.change('tide-watch', 'Read the new gauge');
  await world.product.build();
  await rm(out('out', 'boarding-gate.tar'));
  const published = await world.publish('--only', 'tide-watch', '--next', 'patch');
  expect(published).toMatchObject({ version: '2.4.1', components: [{ component: 'tide-watch' }] });
  const rows = (await world.status('dev')).environments[0]?.components;
  expect(rows?.map(({ component, version }) => `${component} ${version ?? ''}`)).toEqual([
    'timetable 2.4.0',
    'boarding-gate 2.4.0',
    'tide-watch 2.4.1',
    'fare-tables 2.4.0',
  ]);
  // What dev serves goes on image by image, all at once.
  await world.fails('components-not-there', 'promote', 'uat', '--version', '2.4.1', '--only', 'timetable');
  expect((await world.promote('uat', '--only', 'timetable')).components.map(({ component }) => component)).toEqual([
    'timetable',
  ]);
  const promoted = await world.promote('uat');
  expect(promoted).toMatchObject({ version: null, commit: null });
  expect(promoted.components.map(({ component, version }) => `${component} ${version ?? ''}`).sort()).toEqual([
    'boarding-gate 2.4.0',
    'fare-tables 2.4.0',
    'tide-watch 2.4.1',
    'timetable 2.4.0',
  ]);
  // One decision, one way back: to what uat served before, also where that is nothing.
  const back = await hodJson('rollback', ['rollback', 'uat', '--reason', 'the gauge is wrong'], world.options);
  // 2.4.0 is served still, in part: only the other is withdrawn.
  expect(back.withdrawn.map(({ version }) => version)).toEqual(['2.4.1']);
  expect(back.components.map(({ component, version }) => `${component} ${version ?? 'nothing'}`).sort()).toEqual([
    'boarding-gate nothing',
    'fare-tables nothing',
    'tide-watch nothing',
    'timetable 2.4.0',
  ]);
});

describe('following a build', () => {
  /** Follows the build output folder, and plays the build meanwhile. */
  async function following(build: (said: (text: string) => Promise<void>) => Promise<void>, ...args: string[]) {
    let stderr = '';
    let heard: () => void = () => undefined;
    const said = async (text: string): Promise<void> => {
      while (!stderr.includes(text)) {
        await new Promise<void>((resolve) => (heard = resolve));
      }
    };
    let playing: Promise<void> | undefined;
    const run = await hod(['stage', '--follow', 'out', '--wait', '1m', ...args], {
      ...sandbox.world.options,
      started: (child) => {
        child.stderr?.on('data', (text: string) => {
          stderr += text;
          heard();
        });
        playing = build(said);
      },
    });
    await playing;
    return run;
  }

  test('each output goes up when it is complete; publish then only seals', async () => {
    const { world } = sandbox;
    const { product } = world;
    await copyFile(out('out', 'timetable-arm64.tar'), out('kept.tar'));
    await elsewhere();
    const run = await following(async (said) => {
      // A build that was here before says nothing about this one.
      await rename(out('out-elsewhere', 'tide-watch'), out('tide-watch'));
      await rename(out('out-elsewhere'), out('out'));
      await writeFile(out('out', 'build-succeeded'), `${'0'.repeat(40)}\n`);
      await said('skipped');
      await said('staged boarding-gate linux/amd64 linux/arm64 linux/arm/v7');
      await said('staged timetable linux/arm64');
      // Half a .tar is not an output yet.
      const whole = await readFile(out('out', 'boarding-gate.tar'));
      await writeFile(out('out', 'timetable-arm64.tar'), whole.subarray(0, 5000));
      await rename(out('tide-watch'), out('out', 'tide-watch'));
      await said('staged tide-watch');
      await writeFile(out('out', 'timetable-arm64.tar'), await readFile(out('kept.tar')));
      await writeFile(out('out', 'build-succeeded'), product.head());
    });
    expect(run).toMatchObject({ code: 0 });
    expect(run.stdout).toContain('Everything is there');
    await rm(out('out'), { recursive: true });
    const sealed = await world.publish();
    expect(sealed.components.map(({ platforms }) => platforms.length)).toEqual([2, 3, 2, 0]);
  });

  test('after a failed build nothing is tagged, until it is built again', async () => {
    const { world } = sandbox;
    const { product } = world;
    const failed = await following(async (said) => {
      await said('staged timetable linux/amd64');
      await writeFile(out('out', 'build-failed'), product.head());
    });
    expect(failed).toMatchObject({ code: 4, stderr: expect.stringContaining('the build failed') });
    const object = 'timetable, boarding-gate, tide-watch';
    expect((await world.fails('build-failed', 'publish')).object).toBe(object);
    expect((await tagsOf('timetable')).every((tag) => tag.startsWith('hod-staged-'))).toBe(true);
    await stage('tide-watch');
    expect((await world.fails('build-failed', 'publish')).object).toBe('timetable, boarding-gate');
    await stage();
    await world.publish();
  });

  test('a build that succeeds without an output, or never ends, is told in those words', async () => {
    const { world } = sandbox;
    await rm(out('out', 'tide-watch'), { recursive: true });
    await writeFile(out('out', 'build-succeeded'), world.product.head());
    expect(await world.fails('build-incomplete', 'stage', '--follow', 'out')).toMatchObject({
      object: expect.stringContaining('out/tide-watch'),
    });
    await rm(out('out', 'build-succeeded'));
    expect(await world.fails('build-without-end', 'stage', '--follow', 'out', '--wait', '1s')).toMatchObject({
      next: expect.stringContaining('git rev-parse HEAD > out/build-succeeded'),
    });
    await world.fails('nothing-to-follow', 'stage', '--follow', 'elsewhere');
    await world.fails('options-conflict', 'stage', '--from', 'out/tide-watch');
    await writeFile(out('out', 'build-failed'), world.product.head());
    await world.fails('followed-build-failed', 'stage', '--follow', 'out');
    await rm(out('out'), { recursive: true });
    await world.fails('nothing-to-stage', 'stage', 'timetable');
  });
});

test('a bundle is the same bytes wherever and whenever its files are packed', async () => {
  const { world } = sandbox;
  const bundle = async () =>
    (await world.publish('--dry-run')).components.find(({ kind }) => kind === 'bundle')?.digest;
  const first = await bundle();
  const file = out('data', 'fares', 'season.csv');
  const text = await readFile(file, 'utf8');
  await rm(file);
  await writeFile(file, text, { mode: 0o600 });
  expect(await bundle()).toBe(first);
  await writeFile(
    out(
      'data',
      'fares',
      'a name that is longer than the hundred bytes that the oldest form of the header of an archive has room for.csv',
    ),
    '',
  );
  expect(await bundle()).not.toBe(first);
});

test('what the CI is told: a summary to read, and lines for the steps that follow', async () => {
  const { world } = sandbox;
  const [summary, outputs] = [join(world.folder, 'summary.md'), join(world.folder, 'outputs')];
  await writeFile(summary, 'Before\n');
  const published = await world.publish('--build', '1207', '--summary', summary, '--outputs', outputs);
  const digest = published.components[0]?.digest ?? '';
  const table = await readFile(summary, 'utf8');
  expect(table).toMatch(/^Before\n### skerry-line 2\.4\.0: Published to dev\n/);
  expect(table).toContain(`build 1207`);
  expect(table).toContain(`| \`${world.repository('dev', 'timetable')}@${digest}\` |`);
  expect((await readFile(outputs, 'utf8')).split('\n')).toEqual(
    expect.arrayContaining([
      'OUTCOME=served',
      'TIMETABLE_OUTCOME=served',
      'VERSION=2.4.0',
      `COMMIT=${published.commit}`,
      `TIMETABLE_DIGEST=${digest}`,
      `TIMETABLE_TAGS=${[`c-${published.commit.slice(0, 12)}`, '2.4.0', 'main'].map((tag) => `${world.repository('dev', 'timetable')}:${tag}`).join(',')}`,
    ]),
  );
  world.product.checkout('winter', world.product.head());
  await world.product.change('timetable', 'Show the winter sailings');
  await world.product.build();
  const beside = await world.publish('--branch', 'winter', '--outputs', join(world.folder, 'beside'));
  expect(beside.components[0]?.way).toBe('beside');
  expect(await readFile(join(world.folder, 'beside'), 'utf8')).toMatch(
    /^OUTCOME=beside\n[^]*\nFARE_TABLES_OUTCOME=beside\n$/,
  );
  await world.promote('uat', '--summary', summary);
  expect(await readFile(summary, 'utf8')).toContain('2.4.0: Promoted to uat');
  const unwritable = await hod(['promote', 'prod', '--outputs', '/no/such/folder'], world.options);
  expect(unwritable).toMatchObject({ code: 2, stderr: expect.stringContaining('everything else is done') });
  expect((await world.status('prod')).environments[0]?.components).toHaveLength(components.length);
});

test('touched: only what has changed inputs, or everything where what all are made of has changed', async () => {
  const { world } = sandbox;
  const names = async (since: string) =>
    (await world.hod('touched', '--since', since)).stdout.split('\n').filter(Boolean);
  await world.configure('product: skerry-line', 'product: skerry-line\nshared-inputs: [base/**]');
  expect(await world.hod('touched', '--since', 'v2.4.0')).toMatchObject({ code: 0, stdout: '' });
  await world.product.change('tide-watch', 'Read the new gauge');
  expect(await names('v2.4.0')).toEqual(['tide-watch']);
  const document = await hodJson('touched', ['touched', '--since', 'v2.4.0'], world.options);
  expect(document.components[2]).toEqual({
    component: 'tide-watch',
    kind: 'image',
    since: 'v2.4.0',
    touched: true,
    files: ['services/tide-watch/CHANGES'],
    reason: 'its files changed',
  });
  // Without a commit: what dev serves of each, as the ledger knows. What is not served yet is to be built.
  const here = async () => (await world.hod('touched')).stdout.split('\n').filter(Boolean);
  expect(await here()).toEqual([...components]);
  await world.product.build();
  await world.publish('--version', '2.4.1');
  expect(await here()).toEqual([]);
  await world.product.edit('data/fares/season.csv', 'zone\n');
  expect(await here()).toEqual(['fare-tables']);
  expect(await names('HEAD~1')).toEqual(['fare-tables']);
  await world.product.edit('base/release', '12\n');
  expect(await names('HEAD~1')).toEqual([...components]);
  await world.product.edit('hod.yaml.md', 'not the configuration\n');
  expect(await names('HEAD~1')).toEqual([]);
  await world.configure(/ {4}inputs: \[services\/timetable.*\n/, '');
  expect(await names('HEAD')).toEqual(['timetable']);
  expect(await world.fails('changes-unknown', 'touched', '--since', 'v9.9.9')).toMatchObject({ object: 'v9.9.9' });
});
