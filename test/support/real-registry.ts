import bcrypt from 'bcryptjs';
import { spawn } from 'node:child_process';
import { once } from 'node:events';
import { mkdtemp, rm, writeFile } from 'node:fs/promises';
import { createServer } from 'node:net';
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
  /** Runs the garbage collector of the registry. */
  readonly collect: () => Promise<void>;
  readonly close: () => Promise<void>;
}

/** How a real registry is guarded. */
export interface RealRegistryOptions {
  login?: { username: string; password: string };
  /** Access tokens: what the server's configuration says under `auth.token`. */
  token?: { realm: string; service: string; issuer: string; rootcertbundle: string };
  /** It removes manifests, with their tags. */
  removes?: boolean;
  tls?: { certificate: string; key: string; clientcas?: string[] };
}

/** Starts one, and an open one on the same content. Waits until both listen. */
export async function startRealRegistry({
  login,
  token,
  removes = false,
  tls,
}: RealRegistryOptions = {}): Promise<RealRegistry> {
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
    removes,
    http: tls === undefined ? {} : { tls },
    ...(Object.keys(auth).length === 0 ? {} : { auth }),
  });
  const open = await startServer(folder, 'open', { removes, http: {} });
  return {
    port: guarded.port,
    readPort: open.port,
    blobFile: (digest) => {
      const [algorithm = '', hex = ''] = digest.split(':');
      return join(folder, 'content/docker/registry/v2/blobs', algorithm, hex.slice(0, 2), hex, 'data');
    },
    collect: async () => {
      const collector = spawn('docker-registry', ['garbage-collect', join(folder, 'open.yml')], { stdio: 'ignore' });
      const [code] = (await once(collector, 'exit')) as [number];
      expect(code).toBe(0);
    },
    close: async () => {
      await Promise.all([guarded.end(), open.end()]);
      await rm(folder, { recursive: true, force: true });
    },
  };
}

async function startServer(
  folder: string,
  name: string,
  { http, removes, ...settings }: { http: object; removes: boolean; auth?: object },
) {
  const config = {
    version: '0.1',
    log: { level: 'info', accesslog: { disabled: true } },
    storage: { filesystem: { rootdirectory: join(folder, 'content') }, delete: { enabled: removes } },
    http: { addr: '127.0.0.1:0', ...http },
    ...settings,
  };
  // YAML takes JSON as it is.
  await writeFile(join(folder, `${name}.yml`), JSON.stringify(config));
  const server = spawn('docker-registry', ['serve', join(folder, `${name}.yml`)], {
    stdio: ['ignore', 'ignore', 'pipe'],
  });
  const said: string[] = [];
  const port = await new Promise<number>((resolve, reject) => {
    server.once('error', reject);
    server.once('exit', () => reject(new Error(`the registry ended at once: ${said.join('\n')}`)));
    createInterface({ input: server.stderr }).on('line', (line) => {
      said.push(line);
      const listening = /listening on 127\.0\.0\.1:(\d+)/.exec(line);
      if (listening !== null) {
        resolve(Number(listening[1]));
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

/**
 * Returns a port that nothing listens on now. Ports that the system gives to outgoing connections and to listeners that
 * ask for any port are above 32767, so nothing takes a lower one between this check and its use.
 */
export async function freePort(): Promise<number> {
  for (;;) {
    const port = 20_000 + Math.floor(Math.random() * 12_000);
    const server = createServer().listen(port, '127.0.0.1');
    const free = await once(server, 'listening').then(
      () => true,
      () => false,
    );
    if (free) {
      server.close();
      await once(server, 'close');
      return port;
    }
  }
}
