import { execFileSync } from 'node:child_process';
import { mkdir, rm, symlink, writeFile } from 'node:fs/promises';
import type { ServerResponse } from 'node:http';
import { join } from 'node:path';
import type { Duplex } from 'node:stream';
import { passwordCanary } from './canary';
import { answering, flood, is } from './content';
import type { Spoil } from './network';
import { host, known, type Scene } from './scene';
import { hostile, type HostileCase } from './table';

/** Peers and files that have no end. */

const show = ['show', known];
/** A whole exchange may take a minute; with what comes before and after it, and other work on this machine. */
const patience = 100;

/** Writes a little again and again, until nobody listens any more. */
function drip(to: Duplex | ServerResponse, piece: string, interval = 500): void {
  const timer = setInterval(() => (to.destroyed ? clearInterval(timer) : to.write(piece)), interval);
  to.on('close', () => clearInterval(timer)).on('error', () => clearInterval(timer));
}

const dripping =
  (matches: (method: string, url: string) => boolean, status = 200, type = 'application/json'): Spoil =>
  ({ method = '', url = '' }, response) => {
    if (!matches(method, url)) {
      return false;
    }
    response.writeHead(status, { 'content-type': type });
    drip(response, ' ');
    return true;
  };
const silent =
  (matches: (method: string, url: string) => boolean): Spoil =>
  ({ method = '', url = '' }) =>
    matches(method, url);

const slow = (name: string, attack: (scene: Scene) => unknown, more: Partial<HostileCase> = {}): HostileCase => ({
  name,
  attack,
  run: show,
  exit: 6,
  code: 'timed-out',
  seconds: patience,
  ...more,
});

async function withPassword(scene: Scene): Promise<void> {
  scene.env['DEV_PASSWORD'] = scene.keep(passwordCanary(host.dev, 'tokens.registry.test'));
  const credentials = 'credentials: { username: una, password: { env: DEV_PASSWORD } }';
  await scene.configure(`registries: { ${host.dev}: { token-service: tokens.registry.test, ${credentials} } }`);
  scene.network.at(
    host.dev,
    answering(is.all, 401, { 'www-authenticate': 'Bearer realm="https://tokens.registry.test/t"' }),
  );
}

const peers: HostileCase[] = [
  slow('a registry that says nothing', ({ network }) => network.at(host.dev, silent(is.all)), {
    present: /^waiting for dev\.registry\.test/m,
    forms: ['text'],
  }),
  slow('a proxy that says nothing', ({ network }) => (network.refusal = ''), { exit: 6 }),
  slow('a connection that says nothing', ({ network }) => network.speaks(host.dev, () => undefined)),
  slow('a byte of a manifest now and then', ({ network }) => network.at(host.dev, dripping(is.resolving)), {
    present: /^waiting for dev\.registry\.test/m,
  }),
  slow('a byte of an error now and then', ({ network }) => network.at(host.dev, dripping(is.resolving, 403)), {
    exit: 5,
    code: 'no-right',
  }),
  slow(
    'a byte of a challenge now and then',
    async (scene) => {
      await withPassword(scene);
      scene.network.at(host.dev, ({ headers }, response) => {
        response.writeHead(401, { 'www-authenticate': 'Bearer realm="https://tokens.registry.test/t"' });
        drip(response, headers.host ?? ' ');
        return true;
      });
      scene.network.at('tokens.registry.test', answering(is.all, 401));
    },
    { exit: 5, code: 'login-refused' },
  ),
  slow('a byte of a head now and then', ({ network }) =>
    network.speaks(host.dev, (socket) => {
      socket.write('HTTP/1.1 200 OK\r\n');
      drip(socket, 'x');
    }),
  ),
  slow('an answer that is always to come', ({ network }) =>
    network.speaks(host.dev, (socket) => {
      drip(socket, 'HTTP/1.1 103 Early Hints\r\n\r\n', 50);
    }),
  ),
  slow('pieces of nothing', ({ network }) =>
    network.speaks(host.dev, (socket) => {
      socket.write('HTTP/1.1 200 OK\r\ncontent-type: application/json\r\ntransfer-encoding: chunked\r\n\r\n');
      drip(socket, '1\r\n \r\n', 50);
    }),
  ),
  slow(
    'a byte of a list of tags now and then',
    async (scene) => {
      await scene.forget();
      scene.network.at(host.dev, dripping(is.listing));
    },
    { run: ['publish', '--next', 'minor'] },
  ),
  slow('a token service that says nothing', async (scene) => {
    await withPassword(scene);
    scene.network.at('tokens.registry.test', silent(is.all));
  }),
  slow('a byte of a token now and then', async (scene) => {
    await withPassword(scene);
    scene.network.at('tokens.registry.test', dripping(is.all));
  }),
  slow(
    'an upload that nobody takes',
    async (scene) => {
      await scene.nextVersion();
      scene.network.at(host.dev, silent(is.upload));
    },
    { run: ['publish'] },
  ),
  slow(
    'a manifest that nobody takes',
    async (scene) => {
      await scene.nextVersion();
      scene.network.at(host.dev, silent(is.writing));
    },
    { run: ['publish'] },
  ),
  slow(
    'a byte of a blob now and then',
    ({ network }) =>
      network.at(host.dev, ({ method = '', url = '' }, response) => {
        if (!is.blob(method, url)) {
          return false;
        }
        response.writeHead(200);
        drip(response, 'x');
        return true;
      }),
    { run: ['promote', 'uat'] },
  ),
  {
    name: 'a body without end, as an error',
    attack: ({ network }) => network.at(host.dev, endless(403)),
    run: show,
    exit: 5,
    code: 'no-right',
  },
  {
    name: 'a body without end, as a manifest',
    attack: ({ network }) => network.at(host.dev, endless(200)),
    run: show,
    exit: 7,
    code: 'answer-too-large',
  },
  {
    name: 'a body without end, as a token',
    attack: async (scene) => {
      await withPassword(scene);
      scene.network.at('tokens.registry.test', endless(200));
    },
    run: show,
    exit: 6,
    code: 'token-missing',
  },
  {
    name: 'a body without end, where nobody reads it',
    attack: async (scene) => {
      await scene.nextVersion();
      scene.network.at(
        host.dev,
        (request, response) => is.begin(request.method ?? '', request.url ?? '') && endless(202)(request, response),
      );
    },
    run: ['publish'],
    exit: 6,
    code: 'location-missing',
  },
];

function endless(status: number): Spoil {
  return ({ method, url = '' }, response) => {
    if (method === 'HEAD' || (status === 202 && !url.includes('uploads'))) {
      return false;
    }
    response.writeHead(status, { 'content-type': 'application/json' });
    flood(response, Buffer.alloc(64 * 1024, ' '));
    return true;
  };
}

const fifo = (file: string): void => void execFileSync('mkfifo', [file]);
const instead = async (file: string): Promise<void> => {
  await rm(file, { recursive: true, force: true });
  fifo(file);
};

const files: HostileCase[] = [
  {
    name: 'a build output that is a FIFO',
    attack: async (scene) => {
      await scene.nextVersion();
      await instead(scene.in('out', 'tide-watch'));
    },
    run: ['publish'],
    exit: 4,
    code: 'output-unrecognised',
  },
  {
    name: 'a layout whose index is a FIFO',
    attack: async (scene) => {
      await scene.nextVersion();
      await instead(scene.in('out', 'tide-watch', 'index.json'));
    },
    run: ['publish'],
    exit: 4,
    code: 'file-unreadable',
  },
  {
    name: 'a layout whose blobs lead to a device',
    attack: async (scene) => {
      await scene.nextVersion();
      await rm(scene.in('out', 'tide-watch', 'blobs'), { recursive: true });
      await mkdir(scene.in('out', 'tide-watch', 'blobs'));
      await symlink('/dev', scene.in('out', 'tide-watch', 'blobs', 'sha256'));
    },
    run: ['publish'],
    exit: 7,
    code: 'layout-corrupt',
  },
  {
    name: 'an index that is a device',
    attack: async (scene) => {
      await scene.nextVersion();
      await rm(scene.in('out', 'tide-watch', 'index.json'));
      await symlink('/dev/zero', scene.in('out', 'tide-watch', 'index.json'));
    },
    run: ['publish'],
    exit: 7,
    code: 'layout-corrupt',
  },
  {
    name: 'hod.yaml is a FIFO',
    attack: (scene) => instead(scene.in('hod.yaml')),
    run: ['config', 'check'],
    exit: 2,
    code: 'file-unusable',
  },
  {
    name: 'hod.yaml is a device',
    attack: async (scene) => {
      await rm(scene.in('hod.yaml'));
      await symlink('/dev/zero', scene.in('hod.yaml'));
    },
    run: ['config', 'check'],
    exit: 2,
    code: 'file-unusable',
  },
  {
    name: 'hod.yaml of 64 MiB',
    attack: (scene) => scene.write('hod.yaml', Buffer.alloc(64 * 1024 * 1024, '# \n')),
    run: ['config', 'check'],
    exit: 2,
    code: 'file-unusable',
  },
  {
    name: 'a password in a FIFO',
    attack: async (scene) => {
      fifo(join(scene.folder, 'secrets', 'password'));
      const credentials = 'credentials: { username: una, password: { file: ../secrets/password } }';
      await scene.configure(`registries: { ${host.dev}: { ${credentials} } }`);
      scene.network.at(host.dev, answering(is.all, 401, { 'www-authenticate': 'Basic realm="x"' }));
    },
    run: show,
    exit: 2,
    code: 'file-unusable',
  },
  {
    name: 'a ledger that is a FIFO',
    attack: async (scene) => {
      await scene.forget();
      await mkdir(scene.in('.hod'));
      fifo(scene.in('.hod', 'ledger.db'));
    },
    run: ['status'],
    exit: 3,
    code: 'not-our-file',
  },
  {
    name: 'entries to import from a FIFO',
    attack: (scene) => fifo(scene.in('entries')),
    run: ['ledger', 'import', 'entries'],
    exit: 2,
    code: 'file-unusable',
  },
  {
    name: 'entries to import from a device',
    attack: () => undefined,
    run: ['ledger', 'import', '/dev/zero'],
    exit: 2,
    code: 'file-unusable',
  },
  {
    name: 'an entry to import that is a line of 200 MB',
    attack: (scene) =>
      execFileSync('sh', ['-c', 'head -c 200000000 /dev/zero | tr "\\0" x > entries'], { cwd: scene.in() }),
    run: ['ledger', 'import', 'entries'],
    exit: 7,
    code: 'ledger-entry-corrupt',
  },
  {
    name: 'a build that is told to be complete, and is not',
    attack: async (scene) => {
      await scene.nextVersion();
      await writeFile(scene.in('out', 'tide-watch', 'index.json'), '{"schemaVersion":2,"manifests":[');
    },
    run: ['publish'],
    exit: 7,
    code: 'layout-corrupt',
  },
];

hostile('no peer keeps it for ever', peers);
hostile('no file keeps it for ever', files);
