// The leanest responder: a registry over TLS that keeps manifests and names of blobs in memory, looks at nothing, and answers each
// request so many milliseconds late. Takes note of when each request came and was answered.
// Runs as a program of its own: node responder.mjs '{"milliseconds":20,"lists":true,"tls":{"key":…,"cert":…}}'
import { createHash } from 'node:crypto';
import { once } from 'node:events';
import { createServer } from 'node:https';

const { milliseconds, lists, tls } = JSON.parse(process.argv[2]);
const [blobs, manifests, tags, referrers] = [new Set(), new Map(), new Map(), new Map()];
const indexType = 'application/vnd.oci.image.index.v1+json';
let requests = [];
let connections = 0;
let uploads = 0;

async function bodyOf(request) {
  const pieces = [];
  for await (const piece of request) {
    pieces.push(piece);
  }
  return Buffer.concat(pieces);
}

function take(name, reference, type, body) {
  const digest = `sha256:${createHash('sha256').update(body).digest('hex')}`;
  manifests.set(`${name}@${digest}`, { type, body, digest });
  if (!reference.includes(':')) {
    tags.set(name, (tags.get(name) ?? new Map()).set(reference, digest));
  }
  const document = JSON.parse(body);
  const headers = { 'docker-content-digest': digest, location: `/v2/${name}/manifests/${digest}` };
  if (document.subject === undefined || !lists) {
    return [201, headers];
  }
  const key = `${name}@${document.subject.digest}`;
  const artifactType = document.artifactType ?? document.config?.mediaType;
  const own = (referrers.get(key) ?? []).filter((each) => each.digest !== digest);
  referrers.set(key, [...own, { mediaType: type, digest, size: body.length, artifactType }]);
  return [201, { ...headers, 'oci-subject': document.subject.digest }];
}

/** Answers `[status, headers, body]`. */
async function answer({ method, url, headers }, body) {
  const { pathname, searchParams } = new URL(url, 'https://far');
  const [, name, kind, rest] =
    /^\/v2\/(.+)\/(blobs\/uploads|blobs|manifests|tags|referrers)\/?(.*)$/.exec(pathname) ?? [];
  const key = `${name}@${rest}`;
  switch (kind) {
    case 'blobs/uploads': {
      if (method === 'POST') {
        const [mount, from] = [searchParams.get('mount'), searchParams.get('from')];
        if (mount !== null && blobs.has(`${from}@${mount}`)) {
          blobs.add(`${name}@${mount}`);
          return [201, { location: `/v2/${name}/blobs/${mount}`, 'docker-content-digest': mount }];
        }
        uploads += 1;
        return [202, { location: `/v2/${name}/blobs/uploads/${uploads}`, range: '0-0' }];
      }
      blobs.add(`${name}@${searchParams.get('digest')}`);
      return [201, { 'docker-content-digest': searchParams.get('digest') }];
    }
    case 'blobs':
      return blobs.has(key) ? [200, { 'docker-content-digest': rest, 'content-length': '1' }] : [404, {}];
    case 'manifests': {
      if (method === 'PUT') {
        return take(name, rest, headers['content-type'], body);
      }
      const digest = rest.includes(':') ? rest : tags.get(name)?.get(rest);
      const found = manifests.get(`${name}@${digest}`);
      return found === undefined
        ? [404, {}]
        : [200, { 'content-type': found.type, 'docker-content-digest': digest }, found.body];
    }
    case 'tags':
      return [
        200,
        { 'content-type': 'application/json' },
        JSON.stringify({ name, tags: [...(tags.get(name)?.keys() ?? [])].sort() }),
      ];
    case 'referrers':
      return lists
        ? [
            200,
            { 'content-type': indexType },
            JSON.stringify({ schemaVersion: 2, mediaType: indexType, manifests: referrers.get(key) ?? [] }),
          ]
        : [404, {}];
    default:
      return [200, {}];
  }
}

const server = createServer({ ...tls, noDelay: true }, async (request, response) => {
  const asked = { method: request.method, path: request.url, begun: Date.now(), ended: undefined };
  requests.push(asked);
  const [status, headers, body = ''] = await answer(request, await bodyOf(request));
  setTimeout(() => {
    asked.ended = Date.now();
    response.writeHead(status, request.method === 'HEAD' ? { 'content-length': body.length, ...headers } : headers);
    response.end(request.method === 'HEAD' ? '' : body);
  }, milliseconds);
});
server.on('secureConnection', () => (connections += 1));
server.listen(0, '127.0.0.1');
await once(server, 'listening');

process.send(server.address().port);
process.on('message', () => {
  process.send({ connections, requests });
  [requests, connections] = [[], 0];
});
process.on('disconnect', () => process.exit());
