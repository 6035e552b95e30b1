import { execFileSync } from 'node:child_process';
import { mkdir, mkdtemp, readFile, rm, writeFile } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import type { RunningServer } from '../../src/sandbox/http';
import { startSandboxRegistry } from '../../src/sandbox/registry/router';
import { writeSampleLayout } from '../../src/sandbox/sample/sample-image';
import { resultSchemas } from '../../src/results';
import { hod, hodFails, hodJson, type HodOptions } from '../support/hod';

const revision = '5'.repeat(40);
let folder: string;
let registry: RunningServer;
beforeAll(async () => {
  folder = await mkdtemp(join(tmpdir(), 'hod-products-'));
  registry = await startSandboxRegistry({ port: 0 });
  const environment = (name: string, tags: string, more = '') =>
    `  ${name}: { repository: "${name}.localhost:${registry.port}/${name}/{product}/{image}", tags: { ${tags} }${more} }`;
  await writeFile(
    join(folder, 'base.yaml'),
    [
      'environments:',
      environment('dev', 'moving: ["{branch}"]'),
      environment('uat', 'moving: [uat]', ', after: dev'),
      '',
    ].join('\n'),
  );
  for (const name of ['tide-watch', 'timetable', 'broken']) {
    const product = join(folder, 'services', name);
    await mkdir(product, { recursive: true });
    await writeFile(
      join(product, 'hod.yaml'),
      `extends: ../../base.yaml\nproduct: ${name}\nimages: { api: { from: out } }\n`,
    );
    if (name !== 'broken') {
      await writeSampleLayout(join(product, 'out'), [
        { platform: 'linux/amd64', revision, layers: [{ 'app/a': name }] },
      ]);
    }
  }
  await mkdir(join(folder, 'services', 'timetable', 'node_modules', 'other'), { recursive: true });
  await writeFile(join(folder, 'services', 'timetable', 'node_modules', 'other', 'hod.yaml'), '');
});
afterAll(async () => {
  await registry.close();
  await rm(folder, { recursive: true });
});

const options = (): HodOptions => ({ cwd: folder });
const build = ['--commit', revision, '--branch', 'main'];

test('products of one repository are published, promoted and shown by one command each', async () => {
  const several = ['-c', 'services/t*/hod.yaml'];
  const published = await hodJson(
    'publish-products',
    ['publish', ...several, ...build, '--outputs', 'outputs', '--summary', 'summary'],
    options(),
  );
  expect(published.products.map(({ config, result }) => [config, result?.components[0]?.tags[0]?.outcome])).toEqual([
    ['services/tide-watch/hod.yaml', 'created'],
    ['services/timetable/hod.yaml', 'created'],
  ]);
  const outputs = await readFile(join(folder, 'outputs'), 'utf8');
  expect(outputs).toMatch(/^TIDE_WATCH____OUTCOME=served$/m);
  expect(outputs).toMatch(/^TIMETABLE____API_REFERENCE=dev\.localhost:\d+\/dev\/timetable\/api@sha256:/m);
  expect((await readFile(join(folder, 'summary'), 'utf8')).match(/^### /gm)).toHaveLength(2);
  const promoted = await hodJson('promote-products', ['promote', 'uat', ...several], options());
  expect(promoted.products.map(({ result }) => result?.product)).toEqual(['tide-watch', 'timetable']);
  const shown = await hod(['status', ...several, '--check'], options());
  expect(shown).toMatchObject({ code: 0 });
  expect(shown.stdout).toMatch(
    /^2 products, no drift, nothing waits\n\nproduct +dev +uat\ntide-watch +5{12} +5{12}\ntimetable +5{12} +5{12}\n/,
  );
  // From another folder: by a path from the root, and by one that leads up.
  const elsewhere = { cwd: join(folder, 'services', 'timetable') };
  for (const pattern of [join(folder, 'services/t*/hod.yaml'), '../t*/hod.yaml']) {
    const { products } = await hodJson('status-products', ['status', '-c', pattern], elsewhere);
    expect(products.map(({ result }) => result?.product)).toEqual(['tide-watch', 'timetable']);
  }
});

test('every command that reads or records takes several products', async () => {
  const several = ['-c', 'services/t*/hod.yaml'];
  const both = ['tide-watch', 'timetable'];
  const named = ({ products }: { products: readonly { result: { product: string } | null }[] }) =>
    products.map(({ result }) => result?.product);
  expect(named(await hodJson('prove-products', ['prove', '--all', ...several], options()))).toEqual(both);
  expect(named(await hodJson('tidy-products', ['tidy', 'dev', ...several], options()))).toEqual(both);
  const compared = await hodJson('compare-products', ['compare', 'dev', 'uat', ...several], options());
  expect(compared.products.map(({ result }) => result?.to.name)).toEqual(['uat', 'uat']);
  const smoke = ['record', 'result', 'smoke', '--passed', '--in', 'uat'];
  expect(named(await hodJson('record-result-products', [...smoke, ...several], options()))).toEqual(both);
  const signOff = ['record', 'sign-off', '--for', 'uat', '--actor', 'ole'];
  expect(named(await hodJson('sign-off-products', [...signOff, ...several], options()))).toEqual(both);

  // By time, the newest first, and so many of all together.
  const { stdout } = await hod(['timeline', ...several, '--most', '3'], options());
  const lines = stdout.trimEnd().split('\n');
  const events = lines.map((line) => /^(\S+) .* (signed-off|result) /.exec(line)?.slice(1));
  expect(events.slice(0, 2).toSorted()).toEqual([
    ['tide-watch', 'signed-off'],
    ['timetable', 'signed-off'],
  ]);
  expect(events.slice(2)).toEqual([[expect.any(String), 'result'], undefined]);
  const { products } = await hodJson('timeline-products', ['timeline', ...several], options());
  expect(products.map(({ result }) => result?.events[0]?.kind)).toEqual(['signed-off', 'signed-off']);

  const page = ['board', '--out', 'fleet.html', '-c', 'services/*/hod.yaml', '--json'];
  const written = await hod(page, options());
  expect(written).toMatchObject({ code: 4, stderr: expect.stringContaining('services/broken/hod.yaml:\nhod: ') });
  const { products: shown, unread } = resultSchemas['board-products'].parse(JSON.parse(written.stdout));
  expect([shown.map(({ product }) => product), unread.map(({ config }) => config)]).toEqual([
    both,
    ['services/broken/hod.yaml'],
  ]);

  // Nothing served before: each refuses, and one exit code says so.
  const run = await hod(['rollback', 'uat', '--reason', 'x', ...several, '--json'], options());
  expect(run.code).toBe(3);
});

test('files that name images of several products are pointed at once; which components are touched is told by product', async () => {
  const several = ['-c', 'services/t*/hod.yaml'];
  const image = (environment: string, product: string, rest: string) =>
    `image: ${environment}.localhost:${registry.port}/${environment}/${product}/api${rest}`;
  const file = join(folder, 'deploy.yaml');
  await writeFile(file, `a: { ${image('dev', 'timetable', ':main')} }\nb: { ${image('uat', 'tide-watch', ':uat')} }\n`);
  const stale = await hod(['point', 'uat', file, '--check', ...several], options());
  expect(stale).toMatchObject({
    code: 3,
    stdout: expect.stringContaining('not what uat serves of tide-watch, timetable'),
  });
  const { products, files } = await hodJson('point', ['point', 'uat', file, ...several], options());
  expect(products).toEqual(['tide-watch', 'timetable']);
  expect(files[0]?.changes.map(({ component }) => component)).toEqual(['timetable/api', 'tide-watch/api']);
  expect(await readFile(file, 'utf8')).toMatch(/uat\/timetable\/api@sha256:.*\n.*uat\/tide-watch\/api@sha256:/);
  // One that cannot be read keeps the file as it is.
  await hodFails('ledger-empty', ['point', 'uat', file, '-c', 'services/*/hod.yaml'], options());

  // Two that have the same repository, and do not know of each other.
  const same = `environments: { uat: { repository: "uat.localhost:${registry.port}/uat/timetable/{image}" } }\n`;
  const other = join(folder, 'services', 'twins');
  await mkdir(other, { recursive: true });
  const content = `extends: ../../base.yaml\nproduct: twins\nimages: { api: { from: out } }\n${same}`;
  await writeFile(join(other, 'hod.yaml'), content);
  await writeSampleLayout(join(other, 'out'), [{ platform: 'linux/amd64', revision, layers: [{ 'app/a': 'twins' }] }]);
  await hodJson('publish', ['publish', '-c', 'services/twins/hod.yaml', ...build], options());
  await hodJson('promote', ['promote', 'uat', '-c', 'services/twins/hod.yaml'], options());
  await hodFails('products-disagree', ['point', 'uat', file, ...several], options());
  await rm(other, { recursive: true });

  const git = (...args: string[]) =>
    execFileSync('git', ['-c', 'user.name=u', '-c', 'user.email=u@skerry.test', ...args], { cwd: folder });
  git('init', '--quiet');
  git('add', 'services/*/hod.yaml', 'base.yaml');
  git('commit', '--quiet', '--message', 'one');
  const touched = await hod(['touched', '--since', 'HEAD', ...several], options());
  expect(touched).toMatchObject({ code: 0, stdout: 'tide-watch/api\ntimetable/api\n' });
});

test('one that fails does not keep the others, and its exit code is that of the run', async () => {
  const run = await hod(['publish', '-c', 'services/**/hod.yaml', ...build, '--json'], options());
  expect(run.code).toBe(4);
  const { products } = JSON.parse(run.stdout) as {
    products: { config: string; error: { code: string } | null; result: object | null }[];
  };
  expect(products.map(({ config, error, result }) => [config, error?.code, result !== null])).toEqual([
    ['services/broken/hod.yaml', 'output-missing', false],
    ['services/tide-watch/hod.yaml', undefined, true],
    ['services/timetable/hod.yaml', undefined, true],
  ]);
  expect(run.stderr).toMatch(/^hod: there is no build output$/m);
  expect((await hodFails('config-missing', ['status', '-c', 'nowhere/*/hod.yaml'], options())).next).toContain(
    'in quotes',
  );
});
