import { once } from 'node:events';
import { mkdir, readFile, symlink, writeFile } from 'node:fs/promises';
import { createServer, type IncomingMessage, type ServerResponse } from 'node:http';
import { createServer as createTcpServer, type AddressInfo, type Server } from 'node:net';
import { join } from 'node:path';
import { runDemo } from '../../src/cli/demo';
import type { ErrorCode } from '../../src/core/errors';
import { publish } from '../../src/operations/publish';
import { hod, hodFails } from '../support/hod';
import { passOn } from '../support/pass-on';
import { failing } from '../support/seen-errors';
import { sandboxWorld, type SandboxWorld } from '../support/world';

/** Failures that no other test is about: each has its code, and says why and what to do. */

let sandbox: SandboxWorld;
let dev: string;
const servers: Server[] = [];
beforeEach(async () => {
  sandbox = await sandboxWorld();
  dev = `dev.localhost:${sandbox.world.ports.dev}`;
});
afterEach(async () => {
  servers.splice(0).forEach((server) => server.close());
  await sandbox.close();
});

const inProduct = (...path: string[]): string => join(sandbox.world.product.folder, ...path);

async function listen(server: Server): Promise<string> {
  servers.push(server);
  server.listen(0, '127.0.0.1');
  await once(server, 'listening');
  return `127.0.0.1:${(server.address() as AddressInfo).port}`;
}

type Answer = (request: IncomingMessage, response: ServerResponse) => boolean;

/** Stands before the dev registry, and answers for it where it answers true. */
async function standBefore(spoil: Answer): Promise<void> {
  const host = await listen(
    createServer((request, response) => {
      if (!spoil(request, response)) {
        passOn(sandbox.world.ports.dev, request, response);
      }
    }),
  );
  await sandbox.world.configure(dev, host);
}

const answering =
  (
    matches: (request: IncomingMessage) => boolean,
    status: number,
    headers: Record<string, string> = {},
    body = '',
  ): Answer =>
  (request, response) => {
    if (!matches(request)) {
      return false;
    }
    request.resume();
    response.writeHead(status, headers).end(body);
    return true;
  };
const isUpload = ({ method, url }: IncomingMessage): boolean =>
  method !== 'GET' && url?.includes('/blobs/uploads') === true;
const isWriting = ({ method, url }: IncomingMessage): boolean =>
  method === 'PUT' && url?.includes('/manifests/') === true;

test.each<[ErrorCode, Answer]>([
  ['not-overwritable', answering(isWriting, 409)],
  ['upload-lost', answering((request) => isUpload(request) && request.method !== 'POST', 404)],
])('a registry that fails with %s', async (code, spoil) => {
  await standBefore(spoil);
  await sandbox.world.fails(code, 'publish');
});

test('a registry that says nothing', async () => {
  const silent = (): Server => createTcpServer((socket) => socket.on('error', () => undefined).resume());
  const host = await listen(silent());
  await sandbox.world.configure(dev, host);
  const patience = { connect: 1000, idle: 50, whole: 300, retry: 1 };
  await failing('timed-out', () => publish({ config: inProduct('hod.yaml'), patience }));

  // Whoever does not want to wait for it ends the run.
  await sandbox.world.configure(host, await listen(silent()));
  await hodFails('interrupted', ['publish'], {
    ...sandbox.world.options,
    started: (child) => servers.at(-1)?.once('connection', () => child.kill('SIGINT')),
  });
});

test('files and folders that cannot be what they are to be', async () => {
  const { world } = sandbox;
  const demo = { folder: world.product.folder, keepRunning: false, color: false };
  await failing('folder-in-use', () => runDemo(demo));
  expect((await world.hod('demo', '--folder', world.product.folder)).code).toBe(2);
  await hodFails('port-taken', ['sandbox', '--port', String(world.ports.dev)], world.options);
  await world.configure('files: data/fares', 'files: out/fares');
  await mkdir(inProduct('out', 'fares'));
  await world.fails('files-missing', 'publish');
  await symlink('/etc/hostname', inProduct('out', 'fares', 'link'));
  await world.fails('not-a-plain-file', 'publish');
});

test('rules that give no tag', async () => {
  const { world } = sandbox;
  await world.configure('moving: ["{branch}"]', 'moving: [""]');
  await world.fails('tag-empty', 'publish');
  await world.product.change('timetable', 'Show the winter sailings');
  await world.product.build();
  await world.configure(/tags: .*moving: \[""\]/, 'tags: { fixed: ["{version}"]');
  const { object } = await world.fails('nothing-to-tag', 'publish');
  expect(object).toContain('timetable in dev');
});

test('what is named is there, and is something else', async () => {
  const { world } = sandbox;
  await world.publish();
  await world.fails(
    'nothing-to-assemble',
    'assemble',
    world.repository('dev', 'pair'),
    world.repository('dev', 'fare-tables:2.4.0'),
  );
  const file = join(world.folder, 'ledger.jsonl');
  await hod(['ledger', 'export', file], world.options);
  expect(await readFile(file, 'utf8')).toContain('skerry-line');
  await world.configure('product: skerry-line', 'product: other-line');
  await world.fails('other-product', 'ledger', 'import', file, '--dry-run');
  await writeFile(
    inProduct('hod.yaml'),
    `${await readFile(inProduct('hod.yaml'), 'utf8')}ledger: { postgres: { env: PLACE } }\n`,
  );
  world.env = { PLACE: 'nonsense' };
  await world.fails('ledger-url-invalid', 'status');
});
