// The leanest program that moves blobs to a registry, as a yardstick: it reads pieces into a buffer that it uses
// again, and writes them to a socket; with `hash`, it hashes them on the way. No retries, no checks, no resuming.
//   node floor.mjs publish '{"port":5000,"name":"skerry/timetable","blobs":[{"file":…,"digest":…,"size":…}],"jobs":4,"hash":false}'
//   node floor.mjs copy '{"from":5000,"source":"skerry/timetable","port":5001,"name":…,"blobs":…,"jobs":4,"hash":false}'
import { createHash } from 'node:crypto';
import { once } from 'node:events';
import { open } from 'node:fs/promises';
import { Agent, request } from 'node:http';

const [task, text] = process.argv.slice(2);
const { port, name, from, source, blobs, jobs, hash } = JSON.parse(text);
const agent = new Agent({ keepAlive: true, maxSockets: jobs });

/** Sends a request whose body `write` writes, and answers the response. */
async function send(target, method, path, headers, write) {
  const sent = request({ agent, host: '127.0.0.1', port: target, method, path, headers });
  const answered = once(sent, 'response');
  await write?.(sent);
  sent.end();
  const [response] = await answered;
  if (response.statusCode >= 300) {
    throw new Error(`${method} ${path}: ${response.statusCode}`);
  }
  return response;
}

const drained = (sent, piece) => new Promise((resolve) => sent.write(piece, resolve));

async function writeFile(sent, file, hasher) {
  const handle = await open(file);
  const buffer = Buffer.allocUnsafeSlow(512 * 1024);
  for (;;) {
    const { bytesRead } = await handle.read(buffer, 0, buffer.length);
    if (bytesRead === 0) {
      break;
    }
    const piece = buffer.subarray(0, bytesRead);
    hasher?.update(piece);
    await drained(sent, piece);
  }
  await handle.close();
}

async function writeResponse(sent, digest, hasher) {
  const response = await send(from, 'GET', `/v2/${source}/blobs/${digest}`, {});
  for await (const piece of response) {
    hasher?.update(piece);
    if (!sent.write(piece)) {
      await once(sent, 'drain');
    }
  }
}

async function move({ file, digest, size }) {
  const begun = await send(port, 'POST', `/v2/${name}/blobs/uploads/`, { 'content-length': 0 });
  begun.resume();
  const { pathname, search } = new URL(begun.headers.location, `http://127.0.0.1:${port}`);
  const hasher = hash ? createHash('sha256') : undefined;
  const path = `${pathname}${search}&digest=${digest}`;
  const ended = await send(port, 'PUT', path, { 'content-length': size }, (sent) =>
    task === 'copy' ? writeResponse(sent, digest, hasher) : writeFile(sent, file, hasher),
  );
  ended.resume();
  if (hasher !== undefined && `sha256:${hasher.digest('hex')}` !== digest) {
    throw new Error(`${digest} is corrupt`);
  }
}

const waiting = [...blobs];
await Promise.all(
  Array.from({ length: jobs }, async () => {
    for (let blob = waiting.shift(); blob !== undefined; blob = waiting.shift()) {
      await move(blob);
    }
  }),
);
agent.destroy();
