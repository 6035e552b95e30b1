import { once } from 'node:events';
import {
  createServer as createHttpServer,
  request as forward,
  type IncomingMessage,
  type ServerResponse,
} from 'node:http';
import { createServer, type AddressInfo, type Server, type Socket } from 'node:net';
import type { ErrorCode } from '../../src/core/errors';
import { passOn } from '../support/pass-on';
import { sandboxWorld, type SandboxWorld } from '../support/world';

let sandbox: SandboxWorld;
const servers: Server[] = [];
beforeEach(async () => (sandbox = await sandboxWorld()));
afterEach(async () => {
  servers.splice(0).forEach((server) => server.close());
  await sandbox.close();
});

async function listen(server: Server): Promise<string> {
  servers.push(server);
  server.listen(0, '127.0.0.1');
  await once(server, 'listening');
  return `127.0.0.1:${(server.address() as AddressInfo).port}`;
}

/** Lets a server that speaks as it likes stand in for the dev registry. */
async function replaceDev(speak: (socket: Socket) => void): Promise<void> {
  const host = await listen(
    createServer((socket) => {
      socket.on('error', () => undefined);
      socket.once('data', () => speak(socket));
    }),
  );
  await sandbox.world.configure(`dev.localhost:${sandbox.world.ports.dev}`, host);
}

/** Stands before the dev registry and passes everything on, but for what `spoil` answers itself. */
async function standBefore(spoil: (request: IncomingMessage, response: ServerResponse) => boolean): Promise<void> {
  const { world } = sandbox;
  const host = await listen(
    createHttpServer((request, response) => {
      if (spoil(request, response)) {
        return;
      }
      passOn(world.ports.dev, request, response);
    }),
  );
  await world.configure(`dev.localhost:${world.ports.dev}`, host);
}

/** Whatever is promoted from a source that lies, UAT has no tag afterwards. */
async function promoteFails(code: ErrorCode) {
  const error = await sandbox.world.fails(code, 'promote', 'uat');
  for (const { tags } of Object.values(await sandbox.world.served('uat'))) {
    expect(tags).toEqual({});
  }
  return error;
}

describe('a peer that does not speak HTTP as it should is cut off', () => {
  test('garbage', async () => {
    await replaceDev((socket) => socket.write('\u0000\u0001 this is not HTTP \r\n\r\n'));
    await sandbox.world.fails('not-a-registry', 'publish');
  });

  test('headers without end', async () => {
    await replaceDev((socket) => {
      socket.write('HTTP/1.1 200 OK\r\n');
      const more = (): void => {
        while (!socket.destroyed && socket.write(`x-filler: ${'x'.repeat(8000)}\r\n`));
      };
      socket.on('drain', more);
      more();
    });
    await sandbox.world.fails('connection-broken', 'publish');
  });

  test('a connection that is closed at once', async () => {
    await replaceDev((socket) => socket.destroy());
    await sandbox.world.fails('connection-broken', 'publish');
  });

  test('redirects in a circle', async () => {
    await standBefore((request, response) => {
      response.writeHead(307, { location: request.url }).end();
      return true;
    });
    await sandbox.world.fails('redirect-circle', 'publish');
  });
});

describe('a source that lies is not believed, and nothing is tagged', () => {
  beforeEach(async () => {
    await sandbox.world.publish();
  });
  const isBlob = ({ method, url }: IncomingMessage): boolean =>
    method === 'GET' && url?.includes('/blobs/sha256') === true;
  const isManifest = ({ method, url }: IncomingMessage): boolean =>
    method === 'GET' && url?.includes('/manifests/sha256') === true;

  test('a manifest of more than 4 MiB', async () => {
    await standBefore((request, response) => {
      if (isManifest(request)) {
        response.writeHead(200, { 'content-type': 'application/vnd.oci.image.index.v1+json' });
        response.end(Buffer.alloc(5 * 1024 * 1024, ' '));
        return true;
      }
      return false;
    });
    await promoteFails('answer-too-large');
  });

  test('a manifest with other bytes', async () => {
    await standBefore((request, response) => {
      if (isManifest(request)) {
        const type = 'application/vnd.oci.image.index.v1+json';
        response
          .writeHead(200, { 'content-type': type })
          .end(JSON.stringify({ schemaVersion: 2, mediaType: type, manifests: [] }));
        return true;
      }
      return false;
    });
    await promoteFails('manifest-corrupt');
  });

  test.each([
    ['more bytes than were promised', (size: number) => Buffer.alloc(size + 1)],
    ['other bytes', (size: number) => Buffer.alloc(size)],
    ['fewer bytes', (size: number) => Buffer.alloc(Math.max(0, size - 1))],
  ])('a blob with %s', async (_, bytes) => {
    await standBefore((request, response) => {
      if (!isBlob(request)) {
        return false;
      }
      const head = forward({ port: sandbox.world.ports.dev, method: 'HEAD', path: request.url }, (answer) => {
        const body = bytes(Number(answer.headers['content-length']));
        response.writeHead(200, { 'content-length': String(body.length) }).end(body);
      });
      head.end();
      return true;
    });
    const error = await promoteFails('content-corrupt');
    expect(error.next).toContain('nothing was tagged');
  });

  test('a blob that is gone', async () => {
    await standBefore((request, response) => {
      if (isBlob(request)) {
        response.writeHead(404).end();
        return true;
      }
      return false;
    });
    expect((await promoteFails('no-repository')).object).toMatch(/skerry\/.*@sha256:/);
  });
});

test('a registry that changes what it stores is found out', async () => {
  await standBefore((request, response) => {
    if (request.method === 'PUT' && request.url?.includes('/manifests/') === true) {
      request.resume();
      response.writeHead(201, { 'docker-content-digest': `sha256:${'0'.repeat(64)}` }).end();
      return true;
    }
    return false;
  });
  await sandbox.world.fails('stored-otherwise', 'publish');
});

test('a registry that asks for patience gets it', async () => {
  let asked = 0;
  await standBefore((request, response) => {
    asked += 1;
    if (asked % 7 === 3) {
      response.writeHead(429, { 'retry-after': '1' }).end();
      request.resume();
      return true;
    }
    return false;
  });
  const { images } = await sandbox.world.publish();
  expect(images).toHaveLength(4);
});
