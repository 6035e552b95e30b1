import type { InjectedFault } from '../../src/sandbox/registry/faults';
import { hod, hodJson } from '../support/hod';
import { ManyImages } from '../support/many-images';
import { sandboxWorld, type SandboxWorld } from '../support/world';

describe('a product of many images', () => {
  let product: ManyImages;
  afterEach(() => product.remove());
  const status = (...args: string[]) => hodJson('status', ['status', ...args], product.options);

  test('200 images in three environments: a request an image and environment, and one row', async () => {
    product = await ManyImages.create(200);
    await product.publish(1);
    await product.promote('uat');
    await product.promote('prod');
    await product.publish(2, ['pier-7']);
    product.requests.splice(0);
    const { stdout, stderr } = await hod(['status'], product.options);
    expect(product.requests).toHaveLength(600);
    expect(product.requests.every(({ method }) => method === 'HEAD')).toBe(true);
    expect(stderr).toBe('asking about 600 components in dev, uat, prod\n');
    expect(stdout.split('\n').length).toBeLessThan(14);
    // What differs comes first.
    expect(stdout).toMatch(
      /pier-7 +│ 1\.2\.0 +│ 1\.1\.0 +│ 1\.1\.0[^]*199 components +│ 1\.1\.0 +│ 1\.1\.0 +│ 1\.1\.0/,
    );
  });

  test('what waits is what never was in the next environment; what was taken back does not count', async () => {
    product = await ManyImages.create(2);
    const waiting = async (environment: string) =>
      (await status()).environments.find((each) => each.environment === environment)?.waiting;
    const versions = async (environment: string) =>
      (await waiting(environment))?.releases.map(({ version }) => version);
    await product.publish(1);
    expect(await versions('uat')).toEqual(['1.1.0']);
    expect(await waiting('dev')).toBeNull();
    expect(await versions('prod')).toEqual([]);
    await product.promote('uat');
    expect(await waiting('uat')).toMatchObject({ components: [], releases: [], unmet: [] });
    await product.publish(2);
    await product.publish(3);
    await product.publish(4, ['pier-2']);
    expect(await waiting('uat')).toMatchObject({ components: ['pier-1', 'pier-2'], more: false });
    expect(await versions('uat')).toEqual(['1.4.0', '1.3.0', '1.2.0']);
    await hod(['rollback', 'dev', '--reason', 'the gate is stuck'], product.options);
    expect(await versions('uat')).toEqual(['1.3.0', '1.2.0']);
    await product.promote('uat');
    expect(await versions('uat')).toEqual([]);
    expect(await versions('prod')).toEqual(['1.3.0', '1.1.0']);
    // It was there: it does not wait, and the rule that keeps it out is told.
    await hod(['rollback', 'uat', '--reason', 'the gate is stuck here, too'], product.options);
    expect(await waiting('uat')).toMatchObject({ releases: [], unmet: [{ gate: 'comes-in', of: '1.3.0' }] });
  });

  test('one environment does not answer: that is said once, and the rest is shown', async () => {
    product = await ManyImages.create(30);
    await product.publish(1);
    await product.promote('uat');
    await product.end('uat');
    const { code, stdout } = await hod(['status'], product.options);
    expect([code, stdout]).toEqual([0, expect.stringMatching(/│ 1\.1\.0 +│ 1\.1\.0 +│ –/)]);
    expect(stdout.match(/^silent {2}uat: .*; shown is what the ledger says$/gm)).toHaveLength(1);
    expect(stdout).not.toMatch(/^unknown|^drift/m);
    expect((await hod(['status', '--check'], product.options)).code).toBe(6);
  });

  test('a narrow terminal gets the environments one after the other', async () => {
    product = await ManyImages.create(3);
    await product.publish(1);
    await product.publish(2, ['pier-3']);
    const { stdout } = await hod(['status'], { ...product.options, env: { COLUMNS: '50' } });
    expect(stdout).toMatch(
      /^dev\n {2}1\.2\.0 {2}c{12} {2}just now {2}pier-3\n {2}1\.1\.0 {2}c{12} {2}just now {2}pier-1, pier-2$/m,
    );
    expect(stdout).toMatch(/^uat\n {2}nothing$/m);
  });

  test('--watch shows what changed, also that nobody answers, until it is interrupted', async () => {
    product = await ManyImages.create(1);
    await product.publish(1);
    let shown = '';
    const run = hod(['status', '--watch'], {
      ...product.options,
      started: (child) => {
        const said = (text: string): Promise<void> =>
          new Promise((resolve) => {
            child.stdout?.on('data', (more) => {
              shown += String(more);
              if (shown.includes(text)) {
                resolve();
              }
            });
          });
        void said('1.1.0')
          .then(() => product.publish(2))
          .then(() => said('1.2.0'))
          .then(() => child.kill('SIGINT'));
      },
    });
    const { code, stdout } = await run;
    expect(code).toBe(0);
    expect(stdout.indexOf('1.2.0')).toBeGreaterThan(stdout.indexOf('1.1.0'));
    await product.end('dev');
    expect((await hod(['status', '--watch', '--json'], product.options)).code).toBe(2);
  });
});

describe('the sample product', () => {
  let sandbox: SandboxWorld;
  let refusing = '';
  const faults = ({ method, path }: { method: string; path: string }): InjectedFault | undefined =>
    refusing !== '' && method === 'PUT' && path.endsWith(refusing) ? { kind: 'status', status: 500 } : undefined;
  beforeEach(async () => (sandbox = await sandboxWorld({ faults })));
  afterEach(() => sandbox.close());

  test('a promotion that was ended in between is told as such, and the line that is printed finishes it', async () => {
    const { world } = sandbox;
    await world.publish();
    await world.promote('uat');
    const pull = (await world.hod('status', 'uat', '--pull')).stdout.trimEnd().split('\n');
    expect(pull).toEqual(
      (await world.status('uat')).environments[0]?.components.map(
        ({ repository, digest }) => `${repository}@${digest}`,
      ),
    );
    await world.product.change('timetable', 'Show the winter sailings');
    await world.product.build();
    await world.publish('--next', 'minor');
    refusing = '/manifests/uat';
    expect((await world.hod('promote', 'uat')).code).toBe(6);
    refusing = '';
    const run = await world.hod('status', 'uat', '--check');
    expect(run.code).toBe(4);
    const [, line = ''] = /^unfinished {2}uat .*; `hod (.*)`, run again, finishes it$/m.exec(run.stdout) ?? [];
    expect(line).toBe('promote uat --version 2.5.0');
    expect((await world.hod(...line.split(' '))).code).toBe(0);
    expect((await world.hod('status', '--check')).code).toBe(0);
  });

  test('one tag is asked about, and every one with --check; what waits says which rules are not met', async () => {
    const { world } = sandbox;
    await world.publish();
    await world.promote('uat');
    await world.configure('after: uat\n', 'after: uat\n    gates: { results: [smoke] }\n');
    const { stdout } = await world.hod('status');
    expect(stdout).toMatch(/^waits {2}for prod: 1 release \(2\.4\.0\), just now$/m);
    expect(stdout).toMatch(/^ {2}unmet {2}result smoke: no result of `smoke` in uat/m);
    // One tag of three that somebody removed is no run that was ended.
    await world.hod('record', 'result', 'smoke', '--passed', '--in', 'uat');
    await world.promote('prod');
    const prod = `http://127.0.0.1:${world.ports.prod}/v2/skerry/timetable/manifests/2.4`;
    expect((await fetch(prod, { method: 'DELETE' })).ok).toBe(true);
    expect((await world.hod('status', 'prod', '--check')).stdout).toMatch(
      /^drift {2}prod timetable: the tag 2\.4 is gone; `hod restore prod` puts tags right$/m,
    );
    // A fixed tag that somebody moved.
    const repository = `http://127.0.0.1:${world.ports.dev}/v2/skerry/timetable/manifests`;
    const accept = 'application/vnd.oci.image.index.v1+json';
    const body = `${await (await fetch(`${repository}/2.4.0`, { headers: { accept } })).text()} `;
    await fetch(`${repository}/2.4.0`, { method: 'PUT', headers: { 'content-type': accept }, body });
    expect((await world.hod('status')).code).toBe(0);
    const checked = await world.hod('status', '--check');
    expect(checked.code).toBe(4);
    expect(checked.stdout).toMatch(/^drift {2}dev timetable: 2\.4\.0 points to sha256:/m);
  });
});
