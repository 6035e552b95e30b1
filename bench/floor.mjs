// The leanest program that moves blobs to a registry, as a yardstick: it reads pieces into a buffer that it uses
// again, and writes them to a socket; with `hash`, it hashes them on the way. No retries, no checks, no resuming.
//   node floor.mjs publish '{"port":5000,"name":"skerry/timetable","blobs":[{"file":…,"digest":…,"size":…}],"jobs":4,"hash":false}'
//   node floor.mjs fleet '{"host":"far.localhost:5000","authority":"ca.pem","folder":…,"images":[…],"tags":[…],"jobs":16}'
//   node floor.mjs copy '{"from":5000,"source":"skerry/timetable","port":5001,"name":…,"blobs":…,"jobs":4,"hash":false}'
import { createHash } from 'node:crypto';
import { once } from 'node:events';
import { readFileSync } from 'node:fs';
import { open } from 'node:fs/promises';
import { Agent, request } from 'node:http';
import { Agent as SecureAgent, request as secureRequest } from 'node:https';
import { join } from 'node:path';

const [task, text] = process.argv.slice(2);
const options = JSON.parse(text);
const { port, name, from, source, blobs, jobs, hash, host, authority } = options;
const agent =
  authority === undefined
    ? new Agent({ keepAlive: true, maxSockets: jobs })
    : new SecureAgent({ keepAlive: true, maxSockets: jobs, ca: readFileSync(authority) });

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

/** Where an upload ends. */
function ending(location, digest) {
  const { pathname, search } = new URL(location, 'http://registry');
  return `${pathname}${search === '' ? '?' : `${search}&`}digest=${digest}`;
}

async function move({ file, digest, size }) {
  const begun = await send(port, 'POST', `/v2/${name}/blobs/uploads/`, { 'content-length': 0 });
  begun.resume();
  const path = ending(begun.headers.location, digest);
  const hasher = hash ? createHash('sha256') : undefined;
  const ended = await send(port, 'PUT', path, { 'content-length': size }, (sent) =>
    task === 'copy' ? writeResponse(sent, digest, hasher) : writeFile(sent, file, hasher),
  );
  ended.resume();
  if (hasher !== undefined && `sha256:${hasher.digest('hex')}` !== digest) {
    throw new Error(`${digest} is corrupt`);
  }
}

/** Does work on each, so many at once. */
async function each(items, work) {
  const waiting = [...items];
  const next = async () => {
    for (let item = waiting.shift(); item !== undefined; item = waiting.shift()) {
      await work(item);
    }
  };
  await Promise.all(Array.from({ length: jobs }, next));
}

/** The requests that publishing many small images takes, and nothing else: no ledger, no decision, no check. */
async function publishFleet({ folder, images, tags }) {
  const [hostname, at] = host.split(':');
  const ask = async (method, path, body, type) => {
    const headers = { 'content-length': body?.length ?? 0, ...(type === undefined ? {} : { 'content-type': type }) };
    const place = { host: '127.0.0.1', port: at, servername: hostname };
    const sent = secureRequest({ agent, ...place, method, path, headers: { host, ...headers } });
    sent.end(body);
    const [response] = await once(sent, 'response');
    for await (const piece of response) {
      void piece;
    }
    return response;
  };
  const content = images.map((image) => {
    const read = (digest) => readFileSync(join(folder, image, 'blobs', digest.replace(':', '/')));
    const [root] = JSON.parse(readFileSync(join(folder, image, 'index.json'))).manifests;
    const manifests = JSON.parse(read(root.digest)).manifests;
    const own = manifests.flatMap(({ digest }) => {
      const { config, layers } = JSON.parse(read(digest));
      return [config, ...layers];
    });
    return { base: `/v2/skerry/${image}`, read, root, manifests, blobs: own };
  });
  const flat = (list) => content.flatMap((image) => list(image).map((item) => ({ ...image, item })));
  const put = ({ base, read }, reference, { digest, mediaType }) =>
    ask('PUT', `${base}/manifests/${reference}`, read(digest), mediaType);

  await each(
    flat(() => tags),
    ({ base, item }) => ask('HEAD', `${base}/manifests/${item}`),
  );
  await each(
    flat((image) => image.blobs),
    async ({ base, read, item }) => {
      await ask('HEAD', `${base}/blobs/${item.digest}`);
      const { headers } = await ask('POST', `${base}/blobs/uploads/`);
      const { pathname, search } = new URL(headers.location, `https://${host}`);
      await ask('PUT', `${pathname}${search}&digest=${item.digest}`, read(item.digest), 'application/octet-stream');
    },
  );
  await each(
    flat((image) => image.manifests),
    (image) => put(image, image.item.digest, image.item),
  );
  await each(content, (image) => put(image, image.root.digest, image.root));
  await each(
    flat(() => tags),
    async (image) => {
      await put(image, image.item, image.root);
      await ask('HEAD', `${image.base}/manifests/${image.item}`);
    },
  );
}

await (task === 'fleet' ? publishFleet(options) : each(blobs, move));
agent.destroy();
