import { cp, rm } from 'node:fs/promises';
import { join } from 'node:path';
import { SampleProduct } from '../../src/sandbox/sample/sample-product';
import { git } from './git-remote';
import { hodJson } from './hod';
import { readRepository } from './registry-reader';
import type { EnvironmentName, SandboxWorld, World } from './world';

/** What stands in prod that must not: moving tags that lead to what was withdrawn there. */
async function expectNoneWithdrawn(world: World, withdrawn: ReadonlySet<string>): Promise<void> {
  for (const component of ['timetable', 'boarding-gate']) {
    const { tags } = await readRepository(world.ports.prod, `skerry/${component}`);
    const moving = Object.entries(tags).filter(([tag]) => /^(latest|\d+|\d+\.\d+)$/.test(tag));
    expect(moving.filter(([, digest]) => withdrawn.has(`${component} ${digest}`))).toEqual([]);
  }
}

/** Plays the first year of a product at registries of a kind. */
export function yearSuite(kind: string, start: () => Promise<Pick<SandboxWorld, 'world' | 'close'>>): void {
  test(`the first year of a product, at ${kind}`, async () => {
    const { world, close } = await start();
    try {
      await playYear(world);
    } finally {
      await close();
    }
  }, 900_000);
}

/**
 * Plays the first year of a product: releases, a pull request that asks for a version, hotfixes good and bad, components that come,
 * go, get another name and are included, an environment between two, one that moves, a bad release, and a ledger that is lost.
 * After every month nothing has drifted, everything is proved, and no tag leads to what was withdrawn.
 */
async function playYear(world: World): Promise<void> {
  const { product, options } = world;
  const withdrawn = new Set<string>();
  git(product.folder, ['update-index', '--no-skip-worktree', 'hod.yaml']);
  const build = async (note: string): Promise<void> => {
    git(product.folder, ['add', 'hod.yaml']);
    await product.change('timetable', note);
    await product.build();
  };
  const release = async (note: string, ...args: string[]): Promise<string> => {
    await build(note);
    return (await world.publish(...args)).version ?? '';
  };
  const promote = async (...names: string[]): Promise<void> => {
    for (const name of names) {
      await world.promote(name, '--commit');
    }
  };
  const rollback = async (...args: string[]): Promise<void> => {
    const before = await world.status('prod');
    const result = await hodJson('rollback', ['rollback', 'prod', '--reason', 'the gate stays open', ...args], options);
    const bad = before.environments[0]?.components.flatMap(({ component, lines, ...served }) =>
      [served, ...lines].map((each) => ({ component, ...each })),
    );
    bad
      ?.filter(({ version }) => result.withdrawn.some((each) => each.version === version))
      .forEach(({ component, digest }) => withdrawn.add(`${component} ${digest}`));
    expect(withdrawn.size).toBeGreaterThan(0);
  };
  const serves = async (environment: EnvironmentName | 'staging') => {
    const { environments } = await world.status(environment);
    return new Map(environments[0]?.components.map(({ component, version }) => [component, version]));
  };
  const month = async (...environments: string[]): Promise<void> => {
    const status = await world.hod('status', '--check');
    expect(`${status.code ?? ''} ${status.stdout}`).toMatch(/^0 /);
    const proved = await world.hod('prove', ...environments);
    expect(`${proved.code ?? ''} ${proved.stdout}`).toMatch(/^0 Proved/);
    await expectNoneWithdrawn(world, withdrawn);
  };
  const all = ['dev', 'uat', 'prod'];

  // January: the first release.
  await release('Show the winter sailings', '--version', '2.4.0');
  await promote('uat', 'prod');
  await month(...all);

  // February: a pull request asks for everything.
  git(product.folder, ['branch', 'support-2.4']);
  git(product.folder, ['checkout', '-q', '-b', 'wishes']);
  await build('Show what nobody sails');
  await world.fails('not-followed', 'publish', '--next', 'minor');
  await world.publish();
  await world.fails('branch-not-taken', 'promote', 'uat', '--commit');
  git(product.folder, ['checkout', '-q', 'main']);
  expect(await release('Show the spring sailings', '--next', 'minor')).toBe('2.5.0');
  await promote('uat', 'prod');
  await month(...all);

  // March: a hotfix of the older version, and one that is bad.
  git(product.folder, ['checkout', '-q', 'support-2.4']);
  expect(await release('Close the gate at night', '--next', 'patch', '--line', '2.4')).toBe('2.4.1');
  await promote('uat', 'prod');
  expect(await release('Open the gate at noon', '--next', 'patch', '--line', '2.4')).toBe('2.4.2');
  await promote('uat', 'prod');
  await rollback('--line', '2.4');
  await month(...all);
  await world.fails('withdrawn', 'promote', 'prod', '--commit');
  git(product.folder, ['checkout', '-q', 'main']);

  // April: a component gets another name, and another one is another team's.
  const payments = join(world.folder, 'payments');
  await cp(product.folder, payments, { recursive: true });
  await rm(join(payments, '.hod'), { recursive: true });
  const team = new SampleProduct(payments);
  git(payments, ['update-index', '--skip-worktree', 'hod.yaml']);
  await world.configure(/^product: [^]*$/m, () => paymentsConfig(world.host('dev')), join(payments, 'hod.yaml'));
  await team.change('tide-watch', 'Take coins');
  await team.build();
  await hodJson('publish', ['publish', '--version', '1.0.0'], { ...options, cwd: payments });
  await world.configure('  tide-watch:\n', '  gauge-watch:\n    was: tide-watch\n');
  await world.configure(
    'environments:\n',
    `includes:\n  pay: { product: payments, ledger: { file: ${payments}/.hod/ledger.db }, environment: dev }\nenvironments:\n`,
  );
  expect(await release('Read the gauges', '--next', 'minor')).toBe('2.6.0');
  await promote('uat', 'prod');
  expect([...(await serves('prod')).keys()].sort()).toEqual([
    'boarding-gate',
    'fare-tables',
    'gauge-watch',
    'pay',
    'timetable',
  ]);
  await month(...all);

  // May: releases pass through staging.
  await world.configure(/^ {2}prod:\n {4}after: uat\n/m, () =>
    [
      '  staging:',
      '    after: uat',
      `    repository: ${world.host('uat')}/staging/{image}`,
      "    tags: { fixed: ['{version}'], moving: [staging] }",
      '  prod:',
      '    after: staging',
      '',
    ].join('\n'),
  );
  expect(await release('Show the summer sailings', '--next', 'minor')).toBe('2.7.0');
  await promote('uat', 'staging');
  await world.promote('prod', '--commit', '--new-way-in', '--reason', 'releases pass through staging');
  all.splice(2, 0, 'staging');
  await month(...all);

  // June: a bad release, which comes back on purpose once it turns out that it was not.
  expect(await release('Open both gates', '--next', 'minor')).toBe('2.8.0');
  await promote('uat', 'staging', 'prod');
  await rollback();
  expect((await serves('prod')).get('timetable')).toBe('2.7.0');
  await month(...all);
  await world.fails('withdrawn', 'promote', 'prod', '--commit');

  // July: prod moves, and goes back a release in its new place.
  const moved = `${world.host('prod')}/pier/{image}`;
  await world.configure(`${world.host('prod')}/skerry/{image}`, moved);
  await world.promote('prod', '--mend', '--new-way-in', '--reason', 'the pier has a registry of its own');
  await month(...all);

  // August: a component goes.
  await world.configure(/ {2}boarding-gate:\n(?: {4}.*\n)+/, '');
  expect(await release('Sail without gates', '--next', 'minor')).toBe('2.9.0');
  await promote('uat', 'staging', 'prod');
  expect([...(await serves('prod')).keys()]).not.toContain('boarding-gate');
  await month(...all);

  // September: the ledger is lost. What was withdrawn before prod moved is not known in the new place; what came since is.
  expect(await release('Sail at night', '--next', 'minor')).toBe('2.10.0');
  await promote('uat', 'staging', 'prod');
  await hodJson('rollback', ['rollback', 'prod', '--reason', 'nobody sees the pier'], options);
  expect((await serves('prod')).get('timetable')).toBe('2.9.0');
  const before = await serves('prod');
  await rm(join(product.folder, '.hod'), { recursive: true });
  await hodJson('ledger-rebuild', ['ledger', 'rebuild'], options);
  expect(await serves('prod')).toEqual(before);
  await world.fails('withdrawn', 'promote', 'prod', '--version', '2.10.0');

  // December: it goes on.
  expect(await release('Show next year', '--next', 'minor')).toBe('2.11.0');
  await promote('uat', 'staging', 'prod');
  await month(...all);
  await hodJson('ledger-verify', ['ledger', 'verify'], options);
}

function paymentsConfig(host: string): string {
  return `product: payments
images: { pay: { from: out/tide-watch } }
environments:
  dev: { repository: '${host}/payments/{image}', tags: { fixed: ['{version}'], moving: [main] } }
`;
}
