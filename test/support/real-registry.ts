import bcrypt from 'bcryptjs';
import { spawn } from 'node:child_process';
import { once } from 'node:events';
import { mkdtemp, rm, writeFile } from 'node:fs/promises';
import { createServer, type AddressInfo } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { createInterface } from 'node:readline';

/** A real registry server: Debian's package `docker-registry`, in a temporary folder, on a free loopback port. */
export interface RealRegistry {
  readonly port: number;
  /** Another server on the same content, open to all: how tests read what a guarded one holds. */
  readonly readPort: number;
  /** The file that holds a blob or a manifest. */
  readonly blobFile: (digest: string) => string;
  readonly close: () => Promise<void>;
}

/** How a real registry is guarded. */
export interface RealRegistryOptions {
  login?: { username: string; password: string };
  /** Access tokens: what the server's configuration says under `auth.token`. */
  token?: { realm: string; service: string; issuer: string; rootcertbundle: string };
  tls?: { certificate: string; key: string; clientcas?: string[] };
}

/** Starts one, and an open one on the same content. Waits until both listen. */
export async function startRealRegistry({ login, token, tls }: RealRegistryOptions = {}): Promise<RealRegistry> {
  const folder = await mkdtemp(join(tmpdir(), 'hod-real-registry-'));
  const htpasswd = join(folder, 'htpasswd');
  if (login !== undefined) {
    await writeFile(htpasswd, `${login.username}:${bcrypt.hashSync(login.password, 4)}\n`);
  }
  const auth = {
    ...(login === undefined ? {} : { htpasswd: { realm: 'skerry', path: htpasswd } }),
    ...(token === undefined ? {} : { token }),
  };
  const guarded = await startServer(folder, 'guarded', {
    http: tls === undefined ? {} : { tls },
    ...(Object.keys(auth).length === 0 ? {} : { auth }),
  });
  const open = await startServer(folder, 'open', { http: {} });
  return {
    port: guarded.port,
    readPort: open.port,
    blobFile: (digest) => {
      const [algorithm = '', hex = ''] = digest.split(':');
      return join(folder, 'content/docker/registry/v2/blobs', algorithm, hex.slice(0, 2), hex, 'data');
    },
    close: async () => {
      await Promise.all([guarded.end(), open.end()]);
      await rm(folder, { recursive: true, force: true });
    },
  };
}

async function startServer(folder: string, name: string, { http, ...settings }: { http: object; auth?: object }) {
  const port = await freePort();
  const config = {
    version: '0.1',
    log: { level: 'info', accesslog: { disabled: true } },
    storage: { filesystem: { rootdirectory: join(folder, 'content') } },
    http: { addr: `127.0.0.1:${port}`, ...http },
    ...settings,
  };
  // YAML takes JSON as it is.
  await writeFile(join(folder, `${name}.yml`), JSON.stringify(config));
  const server = spawn('docker-registry', ['serve', join(folder, `${name}.yml`)], {
    stdio: ['ignore', 'ignore', 'pipe'],
  });
  const said: string[] = [];
  await new Promise<void>((resolve, reject) => {
    server.once('error', reject);
    server.once('exit', () => reject(new Error(`the registry ended at once: ${said.join('\n')}`)));
    createInterface({ input: server.stderr }).on('line', (line) => {
      said.push(line);
      if (line.includes('listening on')) {
        resolve();
      }
    });
  });
  return {
    port,
    end: async () => {
      server.kill();
      await once(server, 'exit');
    },
  };
}

/** A port that nothing listens on now. */
export async function freePort(): Promise<number> {
  const server = createServer().listen(0, '127.0.0.1');
  await once(server, 'listening');
  const { port } = server.address() as AddressInfo;
  server.close();
  await once(server, 'close');
  return port;
}
