import { createHmac } from 'node:crypto';
import { once } from 'node:events';
import { createServer, type Server } from 'node:http';
import type { AddressInfo } from 'node:net';
import { spawn } from 'node:child_process';
import { createInterface } from 'node:readline';
import { text } from 'node:stream/consumers';
import { z } from 'zod';
import { hod, plainEnvironment, program } from '../support/hod';
import { sandboxWorld, type SandboxWorld } from '../support/world';

const key = 'a key of the harbour board';
const eventSchema = z.strictObject({
  specversion: z.literal('1.0'),
  id: z.string().regex(/^sha256:/),
  source: z.literal('hod/skerry-line'),
  type: z.string(),
  subject: z.string(),
  time: z.iso.datetime(),
  sequence: z.string().regex(/^\d{12}$/),
  datacontenttype: z.literal('application/json'),
  data: z.looseObject({ product: z.literal('skerry-line'), seq: z.number(), actor: z.string() }),
});
type Event = z.infer<typeof eventSchema>;

/** A receiver that checks every signature, and behaves as it is told. */
class Receiver {
  readonly events: Event[] = [];
  /** Answers instead of 204; `none`: it does not answer. */
  behave: (count: number) => number | 'none' = () => 204;
  came: () => void = () => undefined;
  private server: Server | undefined;
  port = 0;

  async up(): Promise<void> {
    let count = 0;
    this.server = createServer((request, response) => {
      void text(request).then((body) => {
        expect(request.headers['content-type']).toBe('application/cloudevents+json; charset=utf-8');
        expect(request.headers['hod-body-hmac']).toBe(createHmac('sha256', key).update(body).digest('hex'));
        count += 1;
        const status = this.behave(count);
        if (status === 204) {
          this.events.push(eventSchema.parse(JSON.parse(body)));
        }
        this.came();
        if (status !== 'none') {
          response.writeHead(status).end();
        }
      });
    });
    this.server.listen(this.port, '127.0.0.1');
    await once(this.server, 'listening');
    this.port = (this.server.address() as AddressInfo).port;
  }

  async down(): Promise<void> {
    this.server?.closeAllConnections();
    await new Promise((resolve) => this.server?.close(resolve));
  }

  /** The types of what came, each event at its first coming. */
  get story(): string[] {
    const first = this.events.filter(({ id }, at) => this.events.findIndex((each) => each.id === id) === at);
    const order = first.map(({ sequence }) => sequence);
    expect(order).toEqual([...order].sort());
    return first.map(({ type, subject }) => `${type.replace('hod.', '')} ${subject}`);
  }
}

let sandbox: SandboxWorld;
let receiver: Receiver;
beforeEach(async () => {
  [sandbox, receiver] = [await sandboxWorld(), new Receiver()];
  await receiver.up();
  await sandbox.world.configure(
    /$/,
    `announce:\n  board: { url: "http://127.0.0.1:${receiver.port}/hook", key: { env: BOARD_KEY } }\n`,
  );
  sandbox.world.env = { BOARD_KEY: key };
});
afterEach(async () => {
  await Promise.all([sandbox.close(), receiver.down()]);
});

const promoted = ['promoted uat', 'promoted prod'];
const all = ['published dev', 'refused prod', ...promoted, 'published dev', ...promoted, 'rolled-back prod'];

/** What comes after the first publication: everything that is announced. */
async function day(): Promise<void> {
  const { world } = sandbox;
  await world.fails('not-in-previous-environment', 'promote', 'prod', '--version', '2.4.0');
  await world.promote('uat');
  await world.promote('prod');
  await world.product.change('timetable', 'Show the winter sailings');
  await world.product.build();
  await world.publish('--version', '2.5.0');
  await world.promote('uat');
  await world.promote('prod');
  expect((await world.hod('rollback', 'prod', '--reason', 'it leaks')).code).toBe(0);
}

test('what happened is told, signed, in order; what only was tried is not', async () => {
  const { world } = sandbox;
  await world.publish('--dry-run');
  await world.publish();
  const commit = world.product.head();
  await day();
  await world.publish('--version', '2.5.0');
  expect(receiver.story).toEqual(all);
  const [published, refused] = receiver.events.map(({ data }) => data);
  const back = receiver.events.at(-1)?.data;
  expect(published).toMatchObject({ environment: 'dev', version: '2.4.0', commit });
  expect(published?.['components']).toContainEqual(
    expect.objectContaining({
      component: 'timetable',
      repository: world.repository('dev', 'timetable'),
      way: 'takes-over',
    }),
  );
  expect(refused).toMatchObject({ command: 'promote', code: 'not-in-previous-environment' });
  expect(back).toMatchObject({ reason: 'it leaks' });
  expect((await world.status()).announcements).toEqual([{ receiver: 'board', undelivered: 0, since: null }]);
  expect((await world.hod('ledger', 'verify')).code).toBe(0);
});

test('a receiver that is down, answers 500 or not at all fails nothing, and is told in order afterwards', async () => {
  const { world } = sandbox;
  await world.publish();
  await receiver.down();
  const run = await world.hod('promote', 'uat');
  expect(run).toMatchObject({ code: 0 });
  expect(run.stderr).toContain('board was not told');
  expect((await world.status()).announcements).toMatchObject([{ receiver: 'board', undelivered: 1 }]);
  expect((await world.hod('status')).stdout).toContain('untold  board: 1 announcement');
  expect((await world.hod('announce')).code).toBe(6);
  await receiver.up();
  receiver.behave = () => 500;
  expect((await world.hod('promote', 'prod')).stderr).toContain('answered 500');
  receiver.behave = () => 'none';
  const begun = performance.now();
  expect((await world.hod('record', 'result', 'smoke', '--passed', '--in', 'uat')).code).toBe(0);
  expect(performance.now() - begun).toBeLessThan(15_000);
  receiver.behave = () => 204;
  expect((await world.hod('announce')).stdout).toContain('board: told of 2 events');
  expect(receiver.story).toEqual(['published dev', ...promoted]);
  expect((await world.hod('announce')).stdout).toContain('nothing new');
});

test('whoever tells is killed: everything comes once or more, in order', async () => {
  const { world } = sandbox;
  await world.publish();
  await receiver.down();
  await day();
  await receiver.up();
  for (const killedAt of [1, 3, 2]) {
    const child = spawn(process.execPath, [program, 'announce'], {
      cwd: world.product.folder,
      env: { ...plainEnvironment, ...world.env },
    });
    let count = 0;
    receiver.came = () => {
      count += 1;
      if (count === killedAt) {
        child.kill('SIGKILL');
      }
    };
    const [, signal] = (await once(child, 'exit')) as [number | null, string | null];
    expect(signal).toBe('SIGKILL');
  }
  receiver.came = () => undefined;
  expect((await world.hod('announce')).code).toBe(0);
  expect(receiver.story).toEqual(all);
  expect(receiver.events.length).toBeGreaterThan(all.length);
});

test('a key that is missing or stands in hod.yaml, a kind that nobody asked for, and nobody to tell', async () => {
  const { world } = sandbox;
  await world.configure('key: { env: BOARD_KEY } }', 'key: { env: BOARD_KEY }, kinds: [promoted] }');
  world.env = {};
  const published = await world.hod('publish');
  expect(published).toMatchObject({ code: 0 });
  expect(published.stderr).toContain('board was not told: a credential is missing');
  world.env = { BOARD_KEY: key };
  await world.promote('uat');
  expect(receiver.story).toEqual(['promoted uat']);
  await world.configure('key: { env: BOARD_KEY }', 'key: hunter2-hunter2');
  expect((await world.fails('config-invalid', 'publish')).why).toContain('a secret never stands here');
  await world.configure(/announce:\n.*\n$/, '');
  await world.fails('nobody-to-tell', 'announce');
});

test('a chat is told in a body of its own: values stay within it, call nobody and link nowhere; its address is a secret', async () => {
  const { world } = sandbox;
  const said: { path: string; type: string; body: string }[] = [];
  let status = 200;
  const server = createServer((request, response) => {
    void text(request).then((body) => {
      said.push({ path: request.url ?? '', type: request.headers['content-type'] ?? '', body });
      expect(request.headers['hod-body-hmac']).toBeUndefined();
      response.writeHead(status).end();
    });
  });
  server.listen(0, '127.0.0.1');
  await once(server, 'listening');
  const { port } = server.address() as AddressInfo;
  const lines = [
    'announce:',
    '  chat:',
    '    url: { env: CHAT_URL }',
    '    body: { blocks: [{ text: "{text} ({run})" }], at: "{environment}", {event}: 7 }',
    '  pager: { url: "http://127.0.0.1:PORT/pager", body: "{event}: {release} in {environment} by {actor}" }',
  ];
  await world.configure(
    /announce:\n.*\n$/,
    `${lines.join('\n').replace('{event}: 7', 'n: 7').replace('PORT', String(port))}\n`,
  );
  const secret = 'hook-5f0c9d2e7b1a';
  world.env = { CHAT_URL: `http://127.0.0.1:${port}/${secret}` };
  await world.publish('--actor', 'siv');
  expect(said.map(({ path, type, body }) => [path, type, body]).sort()).toEqual([
    [
      `/${secret}`,
      'application/json; charset=utf-8',
      '{"blocks":[{"text":"siv published skerry-line 2.4.0 to dev ()"}],"at":"dev","n":7}',
    ],
    ['/pager', 'text/plain; charset=utf-8', 'published: 2.4.0 in dev by siv'],
  ]);
  await world.promote('uat');
  await world.product.change('timetable', 'Show the winter sailings');
  await world.product.build();
  await world.publish('--version', '2.5.0');
  await world.promote('uat');
  said.length = 0;
  const reason = '@everyone "}], "at": "<!here>\n\\ see https://evil.test or www.evil.test {version}';
  await hod(['rollback', 'uat', '--reason', reason, '--actor', 'siv'], world.options);
  const [chat] = said.filter(({ path }) => path !== '/pager');
  const document: unknown = JSON.parse(chat?.body ?? '');
  expect(document).toEqual({
    blocks: [{ text: expect.stringContaining('siv rolled skerry-line back in uat to 2.4.0: @') }],
    at: 'uat',
    n: 7,
  });
  expect(chat?.body).not.toMatch(/@everyone|<!here>|https:\/\/evil|www\.evil/);
  expect(chat?.body).toContain('{version}');

  status = 404;
  const failed = await world.hod('promote', 'uat', '--again', '--reason', 'it was right', '--verbose');
  expect(failed).toMatchObject({
    code: 0,
    stderr: expect.stringContaining(`chat was not told: 127.0.0.1:${port} answered 404`),
  });
  world.env = { CHAT_URL: secret };
  expect((await world.hod('announce')).stdout).toContain('what hod.yaml takes it from holds no address');
  for (const run of [failed, await world.hod('config', 'show'), await world.hod('announce', '--verbose')]) {
    expect(run.stdout + run.stderr).not.toContain(secret);
  }
  await world.configure('{text} (', '{txt} (');
  expect((await world.fails('config-invalid', 'config', 'check')).why).toMatch(
    /there is no placeholder \{txt\}; there are text event/,
  );
  await new Promise((resolve) => server.close(resolve));
});

test('the receiver of the sandbox tells what comes, and whether it is signed', async () => {
  const { world } = sandbox;
  const child = spawn(process.execPath, [program, 'sandbox', '--port', '0', '--receiver', '--json']);
  try {
    const said = createInterface({ input: child.stderr });
    const [line] = (await once(createInterface({ input: child.stdout }), 'line')) as [string];
    const { receiver: own } = z
      .object({ receiver: z.object({ url: z.string(), key: z.string() }) })
      .parse(JSON.parse(line));
    await world.configure(/url: "[^"]*"/, `url: "${own.url}"`);
    world.env = { BOARD_KEY: own.key };
    const [[told]] = (await Promise.all([once(said, 'line'), world.publish()])) as [[string], unknown];
    expect(told).toMatch(/^received {2}\d{12} {2}hod\.published {2}dev {2}signed$/);
    world.env = { BOARD_KEY: 'another key' };
    const [[forged]] = (await Promise.all([once(said, 'line'), world.promote('uat')])) as [[string], unknown];
    expect(forged).toContain('NOT SIGNED');
    const all = z
      .array(z.object({ signed: z.boolean() }))
      .parse(await (await fetch(own.url.replace('receiver.localhost', '127.0.0.1'))).json());
    expect(all.map(({ signed }) => signed)).toEqual([true, false]);
  } finally {
    child.kill('SIGTERM');
    await once(child, 'exit');
  }
});
