import type { ErrorCode } from '../../src/core/errors';
import { answering, either, is, types } from './content';
import type { Spoil } from './network';
import { host } from './scene';
import { hostile, type HostileCase } from './table';

/** Registries that lie, forget, or answer what nobody asked for. */

const published = `${host.dev}/dev/tide-watch`;
const everyTag = [`${published}:1.1.0`, `${published}:main`];

/** A publication of something new, against a dev registry that is spoiled. */
function publishing(
  name: string,
  spoil: Spoil,
  exit: number,
  code?: ErrorCode,
  more: Partial<HostileCase> = {},
): HostileCase {
  return {
    name,
    attack: async (scene) => {
      await scene.nextVersion();
      scene.network.at(host.dev, spoil);
    },
    run: ['publish'],
    exit,
    ...(code === undefined ? {} : { code }),
    ...(exit === 0 ? { tagged: everyTag } : {}),
    ...more,
  };
}

/** A promotion from a dev registry that is spoiled. */
function promoting(
  name: string,
  spoil: Spoil,
  exit: number,
  code: ErrorCode,
  more: Partial<HostileCase> = {},
): HostileCase {
  return {
    name,
    attack: ({ network }) => network.at(host.dev, spoil),
    run: ['promote', 'uat'],
    exit,
    code,
    ...more,
  };
}

/** Refuses to read back the tag of the version; the moving tag is answered for only when that refusal has been read. */
function refusingToReadBack(): Spoil {
  let written = false;
  return (request, response) => {
    const [method, url] = [request.method, request.url ?? ''];
    if (method === 'HEAD' && url.endsWith('/1.1.0') && written) {
      response.writeHead(403).end();
      return true;
    }
    if (method === 'PUT' && url.endsWith('/main')) {
      setTimeout(() => response.writeHead(201, { location: url }).end(), 500);
      return true;
    }
    written ||= method === 'PUT' && url.endsWith('/1.1.0');
    return false;
  };
}

const created = (request: { url?: string | undefined }): Record<string, string> => ({ location: request.url ?? '/' });
/** Takes what matches and forgets it. */
const swallowing =
  (matches: (method: string, url: string) => boolean, times = Infinity): Spoil =>
  (request, response) => {
    if (!matches(request.method ?? '', request.url ?? '') || times === 0) {
      return false;
    }
    times -= 1;
    request.resume();
    response.writeHead(201, created(request)).end();
    return true;
  };
/** Cuts the first upload, and answers this when it is asked how far that came. */
function cutOnce(range: string): Spoil {
  let left = 1;
  return (request, response) => {
    if (is.upload(request.method ?? '', request.url ?? '') && left > 0) {
      left -= 1;
      request.destroy();
      return true;
    }
    const asked = (method: string, url: string): boolean => method === 'GET' && url.includes('/blobs/uploads/');
    return answering(asked, 204, { range, location: request.url ?? '/' })(request, response);
  };
}
const uploaded = (method: string, url: string): boolean => method === 'PUT' && url.includes('/blobs/uploads/');
const mounting = (method: string, url: string): boolean => method === 'POST' && url.includes('mount=');

const writing: HostileCase[] = [
  publishing('a tag may be written and not read back', refusingToReadBack(), 5, 'no-right', { tagged: everyTag }),
  publishing('a tag is taken and stored nowhere', swallowing(is.tagging), 6, 'tag-not-kept', { tagged: everyTag }),
  publishing(
    'a tag leads elsewhere at once',
    either(
      swallowing(is.tagging),
      answering((method, url) => method === 'HEAD' && url.endsWith('/main'), 200, {
        'content-type': types.manifest,
        'docker-content-digest': `sha256:${'a'.repeat(64)}`,
      }),
    ),
    6,
    'tag-not-kept',
    { tagged: everyTag },
  ),
  publishing(
    'a tag is stored under another digest',
    answering(is.tagging, 201, { 'docker-content-digest': `sha256:${'0'.repeat(64)}` }),
    7,
    'stored-otherwise',
    { tagged: everyTag },
  ),
  {
    name: 'a digest in another algorithm is no difference',
    attack: async (scene) => {
      await scene.nextVersion();
      const digests = { 'docker-content-digest': `md5:${'0'.repeat(32)}` };
      scene.network.rewrites(host.dev, (headers) => ({
        ...headers,
        ...('docker-content-digest' in headers ? digests : {}),
      }));
    },
    run: ['publish'],
    exit: 0,
    tagged: everyTag,
  },
  publishing('a blob is taken once and forgotten, and sent again', swallowing(uploaded, 1), 0),
  publishing('blobs are taken and always forgotten', swallowing(uploaded), 4, 'content-lacking'),
  publishing('blobs are said to be there that are not', answering(is.askingBlob, 200, { 'content-length': '1' }), 0),
  publishing('an upload has no place', answering(is.begin, 202), 6, 'location-missing'),
  publishing('an upload is answered with 200', answering(is.begin, 200), 6, 'answer-unexpected'),
  ...['0-99999999', '9-3', 'x', '-1--5'].map((range) =>
    publishing(`an upload that was cut is said to have ${range}`, cutOnce(range), 0),
  ),
  publishing(
    'an answer that nobody reads is a page for people',
    (_, response) => {
      response.setHeader('content-type', 'text/html');
      return false;
    },
    0,
  ),
  publishing(
    'every write is refused with a page for people',
    answering(is.begin, 403, { 'content-type': 'text/html' }, '<h1>No</h1>'),
    5,
    'no-right',
  ),
  publishing('every write is refused without a word', answering(is.begin, 403), 5, 'no-right'),
  publishing('writing is not allowed here', answering(is.begin, 405), 6, 'answer-unexpected'),
  publishing(
    'a manifest is refused for its content',
    answering(is.writing, 400, {}, '{"errors":[{"code":"MANIFEST_INVALID"}]}'),
    6,
    'answer-unexpected',
  ),
  publishing(
    'a manifest is refused for a blob that was sent',
    answering(is.writing, 400, {}, '{"errors":[{"code":"MANIFEST_BLOB_UNKNOWN"}]}'),
    4,
    'content-lacking',
  ),
  publishing('the registry is full', answering(is.upload, 507), 6, 'registry-fault'),
  publishing(
    'too many requests, for a week',
    answering(is.begin, 429, { 'retry-after': '604800' }),
    6,
    'rate-limited',
    { seconds: 10 },
  ),
  publishing(
    'too many requests, until 2099',
    answering(is.begin, 429, { 'retry-after': 'Fri, 31 Dec 2099 23:59:59 GMT' }),
    6,
    'rate-limited',
    { seconds: 10 },
  ),
  ...['-1', '1e9'].map((after) =>
    publishing(
      `too many requests, to wait ${after}`,
      answering(is.begin, 429, { 'retry-after': after }),
      6,
      'rate-limited',
    ),
  ),
  {
    name: 'what protected a staged part cannot be removed: the publication is done all the same',
    attack: async (scene) => {
      await scene.nextVersion();
      expect((await scene.hod('stage')).code).toBe(0);
      const removing = (method: string): boolean => method === 'DELETE';
      scene.network.at(host.dev, answering(removing, 400, {}, '{"errors":[{"code":"UNKNOWN"}]}'));
    },
    run: ['publish'],
    exit: 0,
    // From now on one tag protects all parts that are staged there.
    tagged: [...everyTag, `${published}:hod-staged`],
    after: ({ network }) => expect(network.arrived.some(({ method }) => method === 'DELETE')).toBe(true),
  },
  {
    name: 'what protected a staged part is at a server that fails: the publication is done all the same',
    attack: async (scene) => {
      await scene.nextVersion();
      expect((await scene.hod('stage')).code).toBe(0);
      scene.network.at(
        host.dev,
        answering((method) => method === 'DELETE', 500),
      );
    },
    run: ['publish'],
    exit: 0,
    tagged: everyTag,
  },
  {
    name: 'a mount that mounted nothing is sent instead',
    attack: async (scene) => {
      await scene.configure(`${host.dev}/uat/{image}`, `${host.uat}/uat/{image}`);
      scene.network.at(host.dev, swallowing(mounting));
    },
    run: ['promote', 'uat'],
    exit: 0,
    tagged: [`${host.dev}/uat/tide-watch:1.0.0`, `${host.dev}/uat/tide-watch:uat`],
  },
  {
    name: 'a layer below an index is lost, and the next version has it sent again',
    attack: async (scene) => {
      await scene.lose('layers');
      await scene.nextVersion(false);
    },
    run: ['publish'],
    exit: 0,
    tagged: everyTag,
  },
  {
    name: 'a layer below an index is lost, and it is not promoted',
    attack: (scene) => scene.lose('layers'),
    run: ['promote', 'uat'],
    exit: 4,
    code: 'content-gone',
  },
  {
    name: 'a manifest below an index is lost, and it is not promoted',
    attack: (scene) => scene.lose('manifests'),
    run: ['promote', 'uat'],
    exit: 4,
    code: 'content-gone',
  },
];

const other = Buffer.from(JSON.stringify({ schemaVersion: 2, mediaType: types.index, manifests: [] }));
const blobOf =
  (change: (size: number) => Buffer): Spoil =>
  (request, response) => {
    const [, hex] = /\/blobs\/sha256:([0-9a-f]{64})$/.exec(request.url ?? '') ?? [];
    if (request.method !== 'GET' || hex === undefined) {
      return false;
    }
    response.writeHead(200).end(change(300));
    return true;
  };

const sources: HostileCase[] = [
  promoting(
    'a manifest with other bytes',
    answering(is.reading, 200, { 'content-type': types.index }, other),
    7,
    'manifest-corrupt',
  ),
  promoting(
    'a manifest of 5 MiB',
    answering(is.reading, 200, { 'content-type': types.index }, Buffer.alloc(5 * 1024 * 1024, ' ')),
    7,
    'answer-too-large',
  ),
  promoting(
    'a blob with other bytes',
    blobOf((size) => Buffer.alloc(size)),
    7,
    'content-corrupt',
  ),
  promoting(
    'a blob without bytes',
    blobOf(() => Buffer.alloc(0)),
    7,
    'content-corrupt',
  ),
  promoting(
    'a blob of 64 MiB',
    blobOf(() => Buffer.alloc(64 * 1024 * 1024)),
    7,
    'answer-too-large',
  ),
  promoting(
    'a blob that is a page for people',
    answering(is.blob, 200, { 'content-type': 'text/html' }, '<h1>Log in</h1>'),
    6,
    'not-a-registry',
  ),
  promoting(
    'a part of a blob',
    answering(is.blob, 206, { 'content-range': 'bytes 0-1/2' }, 'xx'),
    6,
    'answer-unexpected',
  ),
  promoting('no blob', answering(is.blob, 204), 6, 'answer-unexpected'),
  promoting('a blob that is gone', answering(is.blob, 410), 6, 'answer-unexpected'),
  promoting('a blob that was not changed', answering(is.blob, 304), 6, 'answer-unexpected'),
  promoting(
    'a blob that leads in circles',
    (request, response) => answering(is.blob, 307, { location: request.url ?? '/' })(request, response),
    6,
    'redirect-circle',
  ),
];

hostile('what was written is there, or it is said', writing);
hostile('a source that lies is not believed', sources);
