import { spawn } from 'node:child_process';
import { once } from 'node:events';
import { writeFile } from 'node:fs/promises';
import { connect } from 'node:net';
import { join } from 'node:path';
import { setTimeout as delay } from 'node:timers/promises';
import { makeAuthority, makeCertificate } from './certificates';
import { freePort } from './real-registry';

/** A web server in front of a registry, with TLS: Debian's nginx. */
export interface Front {
  readonly host: string;
  /** The authority that signed its certificate: a file. */
  readonly authority: string;
  readonly close: () => Promise<void>;
}

/** What lies between a front and the registry behind it. */
export interface FrontOptions {
  /** The port of the registry. */
  readonly target: number;
  /** The largest body that it lets through, in its own words: `10m`. */
  readonly limit: string;
  /** How long it waits for the registry, in seconds. */
  readonly patience?: number;
}

/** Starts one, with its files in a folder. Waits until it listens. */
export async function startFront(folder: string, { target, limit, patience = 60 }: FrontOptions): Promise<Front> {
  const authority = await makeAuthority(folder);
  await makeCertificate(folder, 'front', ['front.localhost']);
  const port = await freePort();
  const places = ['client_body', 'proxy', 'fastcgi', 'uwsgi', 'scgi'].map(
    (each) => `${each}_temp_path ${folder}/${each};`,
  );
  // Its workers would be of a user that may not write here.
  const user = process.getuid?.() === 0 ? 'user root; ' : '';
  const config = `${user}daemon off; pid ${folder}/pid; error_log ${folder}/error.log;
events {}
http {
  access_log off; ${places.join(' ')}
  server {
    listen 127.0.0.1:${port} ssl;
    ssl_certificate ${folder}/front.pem; ssl_certificate_key ${folder}/front.key;
    client_max_body_size ${limit};
    location / {
      proxy_pass http://127.0.0.1:${target};
      proxy_set_header Host $http_host; proxy_set_header X-Forwarded-Proto https;
      proxy_read_timeout ${patience}s;
    }
  }
}
`;
  await writeFile(join(folder, 'front.conf'), config);
  const server = spawn('nginx', ['-e', join(folder, 'error.log'), '-c', join(folder, 'front.conf')], {
    stdio: 'inherit',
  });
  const exited = once(server, 'exit');
  while (!(await listens(port))) {
    await Promise.race([delay(20), exited.then(() => Promise.reject(new Error('nginx ended at once')))]);
  }
  return {
    host: `front.localhost:${port}`,
    authority,
    close: async () => {
      server.kill();
      await exited;
    },
  };
}

async function listens(port: number): Promise<boolean> {
  const socket = connect(port, '127.0.0.1');
  const [event] = await Promise.race([
    once(socket, 'connect').then(() => ['connect']),
    once(socket, 'close').then(() => ['close']),
  ]).catch(() => ['error']);
  socket.destroy();
  return event === 'connect';
}
