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
  port: number;
  readonly close: () => Promise<void>;
}

/** Starts one that asks for a login where one is given. Waits until it listens. */
export async function startRealRegistry(login?: { username: string; password: string }): Promise<RealRegistry> {
  const folder = await mkdtemp(join(tmpdir(), 'hod-real-registry-'));
  const port = await freePort();
  const settings = {
    version: '0.1',
    log: { level: 'info', accesslog: { disabled: true } },
    storage: { filesystem: { rootdirectory: join(folder, 'content') } },
    http: { addr: `127.0.0.1:${port}` },
    ...(login === undefined ? {} : { auth: { htpasswd: { realm: 'skerry', path: join(folder, 'htpasswd') } } }),
  };
  if (login !== undefined) {
    await writeFile(join(folder, 'htpasswd'), `${login.username}:${bcrypt.hashSync(login.password, 4)}\n`);
  }
  // YAML takes JSON as it is.
  await writeFile(join(folder, 'config.yml'), JSON.stringify(settings));
  const server = spawn('docker-registry', ['serve', join(folder, 'config.yml')], {
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
    close: async () => {
      server.kill();
      await once(server, 'exit');
      await rm(folder, { recursive: true, force: true });
    },
  };
}

/** A port that nothing listens on now. */
async function freePort(): Promise<number> {
  const server = createServer().listen(0, '127.0.0.1');
  await once(server, 'listening');
  const { port } = server.address() as AddressInfo;
  server.close();
  await once(server, 'close');
  return port;
}
