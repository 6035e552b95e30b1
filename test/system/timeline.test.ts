import { hodJson } from '../support/hod';
import { sandboxWorld, type SandboxWorld } from '../support/world';

let sandbox: SandboxWorld;
beforeAll(async () => {
  sandbox = await sandboxWorld();
  const { world } = sandbox;
  await hodJson('stage', ['stage', 'tide-watch', '--actor', 'ci'], world.options);
  await world.publish('--actor', 'ci');
  await world.promote('uat', '--actor', 'una');
  await world.hod('record', 'result', 'smoke', '--passed', '--in', 'uat', '--actor', 'ci');
  await world.hod('record', 'sign-off', '--for', 'prod', '--actor', 'siv');
  await world.promote('prod', '--actor', 'una');
  await world.product.change('timetable', 'Show the winter sailings');
  await world.product.build();
  await world.publish('--next', 'minor', '--actor', 'ci');
  await world.promote('uat', '--actor', 'una');
  await world.promote('prod', '--actor', 'una');
  await world.hod('rollback', 'prod', '--reason', 'the gate is stuck', '--actor', 'ole');
});
afterAll(() => sandbox.close());

const timeline = (...args: string[]) => hodJson('timeline', ['timeline', ...args], sandbox.world.options);
const lines = (result: Awaited<ReturnType<typeof timeline>>) =>
  result.events.map(({ kind, environment, version }) => `${kind} ${environment ?? '-'} ${version ?? '-'}`);

test('the newest comes first, and is narrowed by what it was, where, who did it and when', async () => {
  const all = await timeline();
  expect(lines(all)).toEqual([
    'rolled-back prod 2.4.0',
    'promoted prod 2.5.0',
    'promoted uat 2.5.0',
    'published dev 2.5.0',
    'promoted prod 2.4.0',
    'signed-off prod 2.4.0',
    'result uat 2.4.0',
    'promoted uat 2.4.0',
    'published dev 2.4.0',
    'staged dev -',
  ]);
  expect(all.events[0]).toMatchObject({ actor: 'ole', detail: 'the gate is stuck' });
  expect(all.more).toBe(false);
  const few = await timeline('--most', '2');
  expect([few.more, lines(few)]).toEqual([true, lines(all).slice(0, 2)]);
  expect(lines(await timeline('--env', 'uat', '--kind', 'promoted'))).toEqual([
    'promoted uat 2.5.0',
    'promoted uat 2.4.0',
  ]);
  expect((await timeline('--actor', 'siv')).events.length).toBe(1);
  expect(lines(await timeline('--component', 'tide-watch', '--kind', 'staged'))).toEqual(['staged dev -']);
  expect((await timeline('--since', '1h')).events.length).toBe(10);
  expect((await timeline('--until', '2026-01-01')).events).toEqual([]);
  const at = all.events[4]?.at ?? '';
  expect(lines(await timeline('--since', at))).toEqual(lines(all).slice(0, 5));
  await sandbox.world.fails('not-a-time', 'timeline', '--since', 'yesterday');
  await sandbox.world.fails('environment-unknown', 'timeline', '--env', 'pord');
  await sandbox.world.fails('component-unknown', 'timeline', '--component', 'time-table');
});

test('the life of a release, from its staging to where something else took over', async () => {
  const life = await timeline('2.4.0');
  expect(lines(life).map((each) => each.split(' ').slice(0, 2).join(' '))).toEqual([
    'staged dev',
    'published dev',
    'promoted uat',
    'result uat',
    'signed-off prod',
    'promoted prod',
    'replaced dev',
    'replaced uat',
    'replaced prod',
    'returned prod',
  ]);
  expect(life.events[6]).toMatchObject({ detail: '2.5.0 took over, on main' });
  expect(life.events.map(({ after }) => after === null)).toEqual([true, ...Array<boolean>(9).fill(false)]);
  const other = await timeline('HEAD');
  expect(other.release).toMatchObject({ version: '2.5.0' });
  expect(lines(other).map((each) => each.split(' ')[0])).toEqual(['published', 'promoted', 'promoted', 'withdrawn']);
  const said = await sandbox.world.hod('timeline', '2.5.0');
  expect(said.stdout).toMatch(/The life of skerry-line 2\.5\.0 \([0-9a-f]{12}\):\n.*published {2,}dev/);
  await sandbox.world.fails('never-published', 'timeline', '9.9.9');
});
