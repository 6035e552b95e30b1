import * as z from 'zod';
import { errorResultSchema } from '../../src/results/error';
import type { RunningServer } from '../../src/sandbox/http';
import { startSandboxRegistry } from '../../src/sandbox/registry/router';
import { GitRemoteRepository } from '../support/git-remote';
import { hod, hodFails, hodJson } from '../support/hod';
import { killAtLine, linesIn } from '../support/kills';
import { ManyProducts } from '../support/many-products';
import { chance } from '../support/random';
import { keepSeen } from '../support/seen-errors';

/** Each round kills a promotion and a rollback of all products. */
const rounds = Number(process.env['HOD_KILL_ROUNDS'] ?? 5);
const names = ['cargo', 'mail', 'piers', 'timetable'] as const;

let registry: RunningServer;
beforeEach(async () => (registry = await startSandboxRegistry({ port: 0, trusting: true })));
afterEach(() => registry.close());

/** What all products are to serve. */
const everywhere = (version: string | undefined) => Object.fromEntries(names.map((name) => [name, version]));
const promote = (products: ManyProducts, ...more: string[]) => [
  ...['promote', 'uat', '--together', ...products.all],
  ...more,
];

const documentSchema = z.object({ products: z.array(z.object({ error: errorResultSchema.shape.error })) });

/** The code of the error of each product. */
function codesIn(document: string): string[] {
  return documentSchema.parse(JSON.parse(document)).products.map(({ error }) => {
    const { what, object, why, next } = error;
    keepSeen(error.code, { what, object: object ?? '', why: why ?? '', next: next ?? '' });
    return error.code;
  });
}

test('products that go together are all promoted or none, and rolled back together', async () => {
  const products = await ManyProducts.create(registry.port, names);
  await products.publish(0);
  await hodJson('promote-products', promote(products), products.options);
  await products.publish(1);
  await products.configure('mail', 'environments: { uat: { gates: { results: [smoke] } } }\n');
  // In a rehearsal each says what keeps it out.
  const rehearsed = await hod(promote(products, '--dry-run'), products.options);
  expect(rehearsed.code).toBe(3);
  expect(rehearsed.stdout).toContain('smoke');
  const refused = await hod(promote(products, '--json'), products.options);
  expect(refused.code).toBe(3);
  expect(codesIn(refused.stdout)).toEqual(['others-refused', 'result-missing', 'others-refused', 'others-refused']);
  // Told once, however many products wait.
  expect(refused.stderr.match(/^hod: /gm)).toHaveLength(2);
  expect(refused.stderr).toContain('services/cargo/hod.yaml, services/piers/hod.yaml, services/timetable/hod.yaml:\n');
  expect(await products.served()).toEqual(everywhere('1.0.0'));

  const smoke = ['record', 'result', 'smoke', '--passed', '--in', 'dev', '-c', 'services/mail/hod.yaml'];
  await hodJson('record-result', smoke, products.options);
  const promoted = await hodJson('promote-products', promote(products), products.options);
  expect(promoted.products.map(({ result }) => result?.version)).toEqual(names.map(() => '1.1.0'));
  expect(await products.served()).toEqual(everywhere('1.1.0'));
  const { stdout } = await hod(['timeline', ...products.all, '--most', '4'], products.options);
  expect(stdout.match(/together with/g)).toHaveLength(4);

  // Again there is nothing to do, and nothing is recorded.
  await hodJson('promote-products', promote(products), products.options);
  const back = ['rollback', 'uat', '--together', ...products.all, '--reason', 'the summer timetable is wrong'];
  await hodJson('rollback-products', back, products.options);
  expect(await products.served()).toEqual(everywhere('1.0.0'));
  const sets = await products.sets();
  expect(sets[0]).toHaveLength(3);
  expect(new Set(sets[0]).size).toBe(3);
  sets.forEach((each) => expect(each).toEqual(sets[0]));
  await hodFails(
    'options-conflict',
    ['promote', 'uat', '--together', '-c', 'services/mail/hod.yaml'],
    products.options,
  );
  await products.remove();
});

test('products whose ledgers are apart, or of which one cannot be read, do not go together', async () => {
  const products = await ManyProducts.create(registry.port, names, { ledger: 'apart' });
  await products.publish(0);
  const apart = await hod(promote(products, '--json'), products.options);
  expect(apart.code).toBe(2);
  expect(codesIn(apart.stdout)).toEqual(names.map(() => 'ledgers-apart'));
  await products.remove();

  const other = await startSandboxRegistry({ port: 0 });
  const broken = await ManyProducts.create(other.port, names);
  await broken.publish(1);
  await broken.configure('piers', 'colour: blue\n');
  const run = await hod(promote(broken, '--json'), broken.options);
  expect(run.code).toBe(2);
  expect(run.stdout.match(/"others-refused"/g)).toHaveLength(3);
  await broken.configure('piers', '');
  expect(await broken.served()).toEqual(everywhere(undefined));
  await broken.remove();
  await other.close();
});

test.each(['a file', 'a git remote'])(
  'killed at any line of the log, with ledgers in %s, all or none were promoted',
  async (where) => {
    const remote = new GitRemoteRepository({ partial: false });
    const ledger = where === 'a file' ? {} : { ledger: `{ git: { remote: "file://${remote.path}" } }` };
    const products = await ManyProducts.create(registry.port, names, ledger);
    const random = chance();
    await products.publish(0);
    const first = await hod(promote(products, '--verbose'), products.options);
    expect(first).toMatchObject({ code: 0 });
    const length = linesIn(first.stderr);
    let killed = 0;
    for (let round = 1; round <= rounds; round += 1) {
      await products.publish(round);
      const back = ['rollback', 'uat', '--together', ...products.all, '--reason', `round ${round} is wrong`];
      for (const [command, version] of [
        [promote(products), `1.${round}.0`],
        [back, '1.0.0'],
      ] as const) {
        const at = Math.floor(random() * length);
        const run = await hod([...command, '--verbose'], {
          ...products.options,
          started: (child) => killAtLine(child, at),
        });
        killed += run.code === null ? 1 : 0;
        const sets = await products.sets();
        sets.forEach((each) => expect({ at, each }).toEqual({ at, each: sets[0] }));
        const again = await hod(command, products.options);
        expect({ at, code: again.code, said: again.stderr }).toEqual({ at, code: 0, said: expect.any(String) });
        expect(await products.served()).toEqual(everywhere(version));
      }
    }
    expect(killed).toBeGreaterThan(0);
    await products.remove();
    await remote.remove();
  },
);
