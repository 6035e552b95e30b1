import { cp, readFile, rm, writeFile } from 'node:fs/promises';
import { join } from 'node:path';
import { SampleProduct } from '../../src/sandbox/sample/sample-product';
import { playLines, readPage, sectionOf, shellBlocks } from '../support/play-page';
import { git } from '../support/git-remote';
import { hodJson } from '../support/hod';
import { readRepository } from '../support/registry-reader';
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
});

test('an environment moves: what it serves and what rollbacks need come along, and back again', async () => {
  const { world } = sandbox;
  for (const [note, version] of [
    ['Show the spring sailings', '2.4.1'],
    ['Show the summer sailings', '2.5.0'],
  ] as const) {
    await build(note);
    await world.publish('--version', version);
    await world.promote('uat');
    await world.promote('prod');
  }
  const repository = `${world.host('prod')}/skerry/{image}`;
  const elsewhere = `${world.host('uat')}/skerry-prod/{image}`;
  await world.configure(repository, elsewhere);
  await world.fails('other-way-in', 'promote', 'prod', '--mend');
  const refused = await world.fails('repository-changed', 'rollback', 'prod', '--reason', 'x');
  expect(refused.next).toContain('`hod promote prod --mend --new-way-in --reason');
  const [page] = await story('An environment moves');
  const said = await playLines(page, world);
  expect(said).toMatch(
    /Would move prod, which serves [^]*moves {2}timetable, .*fare-tables: prod has them in .*skerry-prod/,
  );
  expect(said).toMatch(
    /Moved prod, which serves skerry-line 2\.5\.0 .* as before\n[^]*copied: 7 digests; already there: 0/,
  );
  expect(said).toMatch(/Proved: prod serves what was published and tested\n[^]*Rolled prod back to 2\.4\.1/);

  // And back: what was withdrawn meanwhile stands in the former place still, and must not.
  await world.configure(elsewhere, repository);
  const args = ['promote', 'prod', '--mend', '--new-way-in', '--reason', 'the new registry is too small'] as const;
  expect((await world.promote(...args.slice(1))).moved).toMatchObject({ alone: true, copied: 0, present: 7 });
  const tags = (await world.served('prod'))['timetable']?.tags ?? {};
  expect(tags['2']).toBe(tags['2.4.1']);
  expect(Object.keys(tags)).not.toContain('2.5');
  expect((await prove('prod')).environments[0]?.findings).toEqual([]);
  expect((await world.hod('status', '--check')).code).toBe(0);
  expect((await world.promote('prod', '--version', '2.5.0', '--again', '--reason', 'it was right')).moved).toBeNull();
  await rollback('prod');
  expect((await world.hod('timeline', '--env', 'prod', '--kind', 'moved')).stdout).toMatch(
    /too small[^]*registry of its own/,
  );
  await hodJson('ledger-verify', ['ledger', 'verify'], world.options);
});

test('into a place that others use nothing moves; without --mend nothing is copied, and later it is', async () => {
  const { world } = sandbox;
  await build('Show the spring sailings');
  await world.publish('--version', '2.4.1');
  await world.promote('uat');
  await world.promote('prod');
  const moving = ['--mend', '--new-way-in', '--reason', 'prod has a registry of its own'];
  // Somebody has a `latest` of their own there.
  await world.configure(`${world.host('prod')}/skerry/`, `${world.host('uat')}/theirs/`);
  const theirs = await fetch(`http://127.0.0.1:${world.ports.uat}/v2/theirs/timetable/manifests/latest`, {
    method: 'PUT',
    headers: { 'content-type': 'application/vnd.oci.image.index.v1+json' },
    body: JSON.stringify({ schemaVersion: 2, mediaType: 'application/vnd.oci.image.index.v1+json', manifests: [] }),
  });
  expect(theirs.status).toBe(201);
  const taken = await world.fails('place-taken', 'promote', 'prod', ...moving);
  expect(taken.object).toContain('theirs/timetable:latest');
  await world.configure('/theirs/', '/ours/');
  // Without --mend the place is another from now on, and what comes is copied alone.
  await build('Show the summer sailings');
  await world.publish('--version', '2.5.0');
  await world.promote('uat');
  const bare = await world.promote('prod', '--version', '2.5.0', ...moving.slice(1));
  expect(bare.moved).toMatchObject({ copied: 0, present: 0 });
  await world.fails('content-gone', 'rollback', 'prod', '--reason', 'it is wrong');
  const later = await world.promote('prod', '--mend');
  expect(later.moved).toMatchObject({ components: [], lost: [] });
  const old = await fetch(`http://127.0.0.1:${world.ports.uat}/v2/ours/timetable/manifests/2.4.1`, { method: 'HEAD' });
  expect(old.status).toBe(200);
  await rollback('prod');
  expect((await prove('prod')).environments[0]?.findings).toEqual([]);
});

test("another team's image is included: one digest, no version and no moving tag of this product, and it stays with its commit", async () => {
  const { world } = sandbox;
  const payments = join(world.folder, 'payments');
  const theirs = { ...world.options, cwd: payments };
  await cp(world.product.folder, payments, { recursive: true });
  git(payments, ['update-index', '--skip-worktree', 'hod.yaml']);
  const team = new SampleProduct(payments);
  await writeFile(
    join(payments, 'hod.yaml'),
    `product: payments
images: { pay: { from: out/tide-watch }, receipts: { from: out/boarding-gate.tar } }
environments:
  dev: { repository: '${world.host('dev')}/payments/{image}', tags: { fixed: ['{version}'], moving: [main] } }
`,
  );
  const pay = async (version: string) => {
    await team.change('tide-watch', `Take coins for ${version}`);
    await team.build();
    return (await hodJson('publish', ['publish', '--version', version], theirs)).components[0]?.digest ?? '';
  };
  await world.configure(
    'environments:\n',
    `includes:\n  pay: { product: payments, ledger: { file: ${payments}/.hod/ledger.db }, environment: dev }\nenvironments:\n`,
  );
  await build('Ship payments');
  await world.fails('ledger-empty', 'publish', '--version', '2.4.1');
  const first = await pay('1.4.2');
  const said = await playLines((await story("Another team's image")).join(''), world);
  expect(said).toMatch(/3 images.*1 bundle.* and 1 included component \(pay\)/);
  expect(said).toMatch(/== publish[^]*pay .*linux\/amd64 linux\/arm64 {2}from payments 1\.4\.2/);
  expect(said).toContain('includes pay of payments 1.4.2');
  const tagsOf = async (name: 'dev' | 'uat') => (await readRepository(world.ports[name], 'skerry/pay')).tags;
  const kept = `included-${first.slice(7, 31)}`;
  expect(await tagsOf('uat')).toEqual({ [kept]: first });

  // Theirs goes on. The commit that is released keeps its content; the next takes what they serve now.
  const second = await pay('1.5.0');
  expect(second).not.toBe(first);
  const again = await world.publish();
  expect(again.components.find(({ component }) => component === 'pay')).toMatchObject({
    digest: first,
    included: { version: '1.4.2' },
  });
  await build('Show the summer sailings');
  await world.publish('--next', 'minor');
  expect(await tagsOf('dev')).toEqual({ [kept]: first, [`included-${second.slice(7, 31)}`]: second });
  expect((await world.hod('compare', 'uat', 'dev')).stdout).toMatch(
    /pay {2}changed\n.*payments 1\.4\.2\n.*payments 1\.5\.0/,
  );
  await world.promote('uat');
  expect((await prove('uat')).environments[0]?.findings).toEqual([]);
  await rollback('uat');
  const { environments } = await world.status('uat', '--check');
  expect(environments[0]?.components.find(({ component }) => component === 'pay')).toMatchObject({
    digest: first,
    drift: { state: 'none' },
  });

  // A ledger that is lost is made again from what the registries tell.
  await rm(join(world.product.folder, '.hod'), { recursive: true });
  await hodJson('ledger-rebuild', ['ledger', 'rebuild'], world.options);
  expect((await prove('uat')).environments[0]?.findings).toEqual([]);

  // By reference; and what cannot be included.
  const including = (from: RegExp | string, to: string) => world.configure(from, to);
  await including(/ {2}pay: \{.*\}\n/, `  pay: { from: '${world.host('dev')}/payments/pay:1.4.2' }\n`);
  await build('Take coins again');
  const { components } = await world.publish('--next', 'minor');
  expect(components.find(({ component }) => component === 'pay')).toMatchObject({
    digest: first,
    included: { tag: '1.4.2', product: null, version: null },
  });
  await world.fails('not-built-here', 'stage', 'pay');
  await build('Take notes');
  await including(/1\.4\.2' \}/, "1.4.2', platforms: [linux/s390x] }");
  await world.fails('included-missing', 'publish');
  await including(
    / {2}pay: \{.*\}\n/,
    `  pay: { product: payments, ledger: { file: ${payments}/.hod/ledger.db }, environment: prod }\n`,
  );
  expect((await world.fails('included-missing', 'publish')).why).toBe('prod of payments serves nothing');
  const access = await world.hod('access', 'check', 'dev');
  expect(access).toMatchObject({ code: 4, stdout: expect.stringMatching(/included +pay +included missing/) });
  // Their ledger names a host that hod.yaml does not.
  await world.configure(world.host('dev'), `elsewhere.localhost:${world.ports.dev}`, join(payments, 'hod.yaml'));
  await team.change('tide-watch', 'Move');
  await team.build();
  await hodJson('publish', ['publish', '--version', '2.0.0', '--new-way-in', '--reason', 'it moves'], theirs);
  await including('environment: prod', 'environment: dev');
  const refused = await world.fails('included-elsewhere', 'publish');
  expect(refused.next).toContain(`registries: { "elsewhere.localhost:${world.ports.dev}": {} }`);
  await world.configure(/$/, `registries: { "elsewhere.localhost:${world.ports.dev}": {} }\n`);
  await world.publish();
});

test('a component gets another name: it is compared, told and pointed through both, and comes back by a rollback', async () => {
  const { world } = sandbox;
  await build('Show the spring sailings');
  await world.publish('--version', '2.4.1');
  await world.promote('uat');
  await world.promote('prod');
  const file = join(world.folder, 'uat.yaml');
  await writeFile(file, `image: ${world.repository('uat', 'tide-watch')}:2.4.1\n`);
  await world.configure('  tide-watch:\n', '  gauge-watch:\n');
  const asked = await world.hod('config', 'check');
  expect(asked.stdout + asked.stderr).toMatch(
    /dev serves tide-watch, which hod\.yaml has no more.*gauge-watch.*`was: tide-watch`/s,
  );
  const point = (environment: string) => hodJson('point', ['point', environment, file], world.options);
  await world.configure('  gauge-watch:\n', '  gauge-watch:\n    was: tide-watch\n');
  expect((await world.hod('config', 'check')).stdout).not.toContain('was:');
  // Until a release came under the new name, references lead to the old one.
  await point('uat');
  expect(await readFile(file, 'utf8')).toMatch(/skerry\/tide-watch.*@sha256/);
  await build('Read the gauges');
  const said = await playLines((await story('A component gets another name')).join(''), world);
  expect(said).toMatch(/== publish[^]*renamed {2}tide-watch: dev serves it as gauge-watch from now on/);
  expect(said).toMatch(/== compare[^]*gauge-watch {2}changed {2}renamed, was tide-watch/);
  expect(said).toMatch(/== timeline[^]*2\.5\.0[^]*2\.4\.1/);
  await point('uat');
  expect(await readFile(file, 'utf8')).toMatch(/skerry\/gauge-watch.*@sha256/);
  expect((await prove('uat')).environments[0]?.findings).toEqual([]);
  await rollback('uat');
  const { environments } = await world.status('uat');
  expect(environments[0]?.components.map(({ component }) => component)).toContain('tide-watch');
  await point('uat');
  expect(await readFile(file, 'utf8')).toMatch(/skerry\/tide-watch.*@sha256/);
  // Names that say two things.
  await world.configure('was: tide-watch', 'was: timetable');
  expect((await world.fails('config-invalid', 'config', 'check')).why).toContain('timetable is a component still');
});
