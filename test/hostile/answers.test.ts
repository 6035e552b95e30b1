import { createHash } from 'node:crypto';
import type { ErrorCode } from '../../src/core/errors';
import { answering, Content, flood, is, types } from './content';
import type { Spoil } from './network';
import { host, known, type Scene } from './scene';
import { hostile, type HostileCase } from './table';

/** Answers that are not what was asked for. */

const show = ['show', `${host.dev}/any/thing:1`];

/** A look at a reference that a hostile registry serves. */
function showing(name: string, attack: (scene: Scene) => unknown, exit: number, code?: ErrorCode): HostileCase {
  return { name, attack, run: show, exit, ...(code === undefined ? {} : { code }) };
}

/** Serves one document under the tag that is shown. */
const serving =
  (document: string | Buffer, type: string = types.manifest, headers: Record<string, string> = {}) =>
  ({ network }: Scene): void =>
    network.at(host.dev, answering(is.resolving, 200, { 'content-type': type, ...headers }, document));

const oneTag = (body: string, headers: Record<string, string> = {}): Spoil =>
  answering(is.listing, 200, { 'content-type': 'application/json', ...headers }, body);
/** What a list of tags is that is none, or has no end. */
const lists: HostileCase[] = [
  ...(
    [
      ['is a page for people', answering(is.listing, 200, { 'content-type': 'text/html' }, '<html>'), 'not-a-registry'],
      ['is no JSON', oneTag('tags: 1'), 'answer-unexpected'],
      ['is null', oneTag('null'), 'answer-unexpected'],
      ['has no tags', oneTag('{}'), 'answer-unexpected'],
      ['is a word', oneTag('{"tags":"9.9.9"}'), 'answer-unexpected'],
      ['says its tags twice', oneTag('{"tags":[],"tags":["9.9.9"]}'), 'answer-unexpected'],
      ['is nested without end', oneTag(`{"tags":${'['.repeat(100_000)}`), 'answer-unexpected'],
      [
        'goes on where it was',
        oneTag('{"tags":["0.1.0"]}', { link: '</v2/dev/tide-watch/tags/list>; rel="next"' }),
        'listing-endless',
      ],
      [
        'has more tags on a page than anybody asks for',
        oneTag(`{"tags":[${Array(300_000).fill('"a"').join(',')}]}`),
        'answer-unexpected',
      ],
      ['goes on at no address', oneTag('{"tags":["0.1.0"]}', { link: '<https://[>; rel="next"' }), 'answer-unexpected'],
    ] satisfies [string, Spoil, ErrorCode][]
  ).map(([name, spoil, code]): HostileCase => ({
    name: `a list of tags ${name}`,
    attack: async (scene) => {
      await scene.forget();
      scene.network.at(host.dev, spoil);
    },
    run: ['publish', '--next', 'minor'],
    exit: 6,
    code,
  })),
  {
    name: 'a list of tags goes on for ever',
    attack: async (scene) => {
      await scene.forget();
      const page = { count: 0 };
      scene.network.at(host.dev, (request, response) => {
        page.count += 1;
        const link = `</v2/dev/tide-watch/tags/list?last=${page.count}>; rel="next"`;
        return oneTag(`{"tags":["0.1.${page.count}"]}`, { link })(request, response);
      });
    },
    run: ['publish', '--next', 'minor'],
    exit: 6,
    code: 'listing-endless',
  },
];

const digest = (text: string): string => `sha256:${createHash('sha256').update(text).digest('hex')}`;
const descriptor = { mediaType: types.config, digest: digest('x'), size: 1 };
const manifest = (change: object): string =>
  JSON.stringify({ schemaVersion: 2, mediaType: types.manifest, config: descriptor, layers: [], ...change });
const child = (change: object): string =>
  JSON.stringify({
    schemaVersion: 2,
    mediaType: types.index,
    manifests: [{ ...descriptor, mediaType: types.manifest, ...change }],
  });
const documents: HostileCase[] = [
  ...(
    [
      ['no JSON', 'manifest'],
      ['null', 'null'],
      ['of deep lists', `{"schemaVersion":2,"x":${'['.repeat(50_000)}${']'.repeat(50_000)}}`],
      ['said twice', `{"schemaVersion":2,"layers":[],${manifest({}).slice(1)}`],
      ['said twice, once in escapes', `{"schemaVersion":2,"\\u006cayers":[],${manifest({}).slice(1)}`],
      ['with a prototype', manifest({ layers: 7 }).replace('{', '{"__proto__":{"layers":[]},"constructor":1,')],
      [
        'not UTF-8',
        Buffer.concat([
          Buffer.from(manifest({}).slice(0, -1)),
          Buffer.from([0x2c, 0x22, 0xff, 0x22, 0x3a, 0x31, 0x7d]),
        ]),
      ],
      ['of another type', manifest({ mediaType: types.index })],
      ['with a size below nothing', manifest({ config: { ...descriptor, size: -1 } })],
      ['with a size that no number holds', manifest({ config: { ...descriptor, size: 1e300 } })],
      ['with a digest that is none', manifest({ config: { ...descriptor, digest: 'sha256:x' } })],
      [
        'with a digest that is a path',
        manifest({ config: { ...descriptor, digest: 'sha256:../../../../etc/passwd' } }),
      ],
      [
        'with a digest in an algorithm that nobody has',
        manifest({ config: { ...descriptor, digest: `crc:${'0'.repeat(64)}` } }),
      ],
      ['with annotations that are lists', manifest({ annotations: ['x'] })],
      ['with a platform that is none', child({ platform: 'linux/amd64' })],
      ['with a platform that is a path', child({ platform: { os: '../..', architecture: '/' } })],
    ] satisfies [string, string | Buffer][]
  ).map(([name, document]) =>
    showing(
      `a manifest ${name}`,
      serving(document, String(document).includes('"manifests"') ? types.index : types.manifest),
      7,
      'manifest-corrupt',
    ),
  ),
  showing('a manifest with a type that is none', serving(manifest({}), '<script>'), 7, 'manifest-corrupt'),
  showing(
    'a page for people instead of a manifest',
    serving('<html>', 'text/html; charset=utf-8'),
    6,
    'not-a-registry',
  ),
  showing(
    'a manifest under a digest that is none',
    serving(manifest({}), types.manifest, { 'docker-content-digest': 'x' }),
    4,
    'no-repository',
  ),
  showing(
    'a manifest under another digest',
    serving(manifest({}), types.manifest, { 'docker-content-digest': digest('y') }),
    7,
    'manifest-corrupt',
  ),
  showing(
    'a manifest in pieces that are packed',
    serving(Buffer.from('1f8b080000000000', 'hex'), types.manifest, { 'content-encoding': 'gzip' }),
    7,
    'manifest-corrupt',
  ),
  ...[206, 304, 404, 999].map((status) =>
    showing(
      `an answer ${status}`,
      ({ network }) => network.at(host.dev, answering(is.resolving, status)),
      status === 404 ? 4 : 6,
      status === 404 ? 'image-missing' : status >= 500 ? 'registry-fault' : 'answer-unexpected',
    ),
  ),
];

/** Peers that do not speak HTTP as they should. */
const speaking: HostileCase[] = (
  [
    ['garbage', '\u0000\u0001 this is not HTTP \r\n\r\n', 'not-a-registry'],
    ['nothing, and hangs up', '', 'connection-broken'],
    ['a status 000', 'HTTP/1.1 000 What\r\ncontent-length: 0\r\n\r\n', 'not-a-registry'],
    ['a status of letters', 'HTTP/1.1 abc What\r\ncontent-length: 0\r\n\r\n', 'not-a-registry'],
    ['two lengths', 'HTTP/1.1 200 OK\r\ncontent-length: 5\r\ncontent-length: 6\r\n\r\n12345', 'connection-broken'],
    ['a length below nothing', 'HTTP/1.1 200 OK\r\ncontent-length: -5\r\n\r\n', 'not-a-registry'],
    ['a piece that is none', 'HTTP/1.1 200 OK\r\ntransfer-encoding: chunked\r\n\r\nzz\r\n', 'not-a-registry'],
    ['a line that another goes on', 'HTTP/1.1 200 OK\r\nx: 1\r\n y\r\n\u0000: \r\n\r\n', 'not-a-registry'],
    [
      'that it changes to another protocol',
      'HTTP/1.1 101 Switching\r\nupgrade: x\r\nconnection: upgrade\r\n\r\n',
      'connection-broken',
    ],
    [
      'fewer bytes than it says',
      'HTTP/1.1 200 OK\r\ncontent-type: application/json\r\ncontent-length: 500\r\n\r\n{}',
      'connection-broken',
    ],
  ] satisfies [string, string, ErrorCode][]
).map(([name, said, code]): HostileCase => ({
  name: `a peer that says ${name}`,
  attack: ({ network }) => network.speaks(host.dev, (socket) => socket.end(said)),
  run: ['show', known],
  exit: 6,
  code,
}));
speaking.push({
  name: 'a peer whose head has no end',
  attack: ({ network }) =>
    network.speaks(host.dev, (socket) => {
      socket.write('HTTP/1.1 200 OK\r\n');
      flood(socket, `x-filler: ${'x'.repeat(8000)}\r\n`);
    }),
  run: ['show', known],
  exit: 6,
  code: 'connection-broken',
});

/** Trees that are small to write and large to walk. */
const bushy = (content: Content, depth: number, width: number): ReturnType<Content['image']> => {
  const below = depth === 0 ? content.image() : bushy(content, depth - 1, width);
  return content.index(Array.from({ length: width }, () => below));
};
const trees: HostileCase[] = [
  {
    name: 'an index that names one child 25 times, seven levels deep',
    attack: ({ network }) => {
      const content = new Content();
      content.tag('1', bushy(content, 6, 25));
      network.at(host.dev, content.serve);
    },
    run: show,
    exit: 0,
    seconds: 8,
    after: ({ network }) => expect(network.arrived.length).toBeLessThan(20),
  },
  {
    name: 'an index that names one child 5,000 times is read once',
    attack: ({ network }) => {
      const content = new Content();
      content.tag('1', bushy(content, 0, 5000));
      network.at(host.dev, content.serve);
    },
    run: ['assemble', `${host.uat}/uat/copy`, `${host.dev}/any/thing:1`, '--dry-run'],
    exit: 0,
    seconds: 8,
    after: ({ network }) => expect(network.arrived.length).toBeLessThan(20),
  },
  {
    name: 'an index of 10,000 images',
    attack: ({ network }) => {
      const content = new Content();
      content.tag(
        '1',
        content.index(Array.from({ length: 10_000 }, (_, at) => content.image({ annotations: { at: `${at}` } }))),
      );
      network.at(host.dev, content.serve);
    },
    run: show,
    exit: 7,
    code: 'too-many-manifests',
    seconds: 10,
    after: ({ network }) => expect(network.arrived.length).toBeLessThan(1100),
  },
  {
    name: 'an index that names one child with two sizes',
    attack: ({ network }) => {
      const content = new Content();
      const image = content.image();
      content.tag('1', content.index([image, { ...image, size: image.size + 1 }]));
      network.at(host.dev, content.serve);
    },
    run: show,
    exit: 7,
    code: 'manifest-corrupt',
  },
  {
    name: 'a layout whose index names one child 25 times, seven levels deep',
    attack: async (scene) => {
      await scene.nextVersion();
      const content = new Content();
      const root = bushy(content, 6, 25);
      await content.write(scene.in('out', 'bush'), { schemaVersion: 2, manifests: [root] });
      await scene.configure('from: out/bush', 'from: out/tide-watch');
    },
    run: ['publish'],
    exit: 0,
    tagged: [`${host.dev}/dev/tide-watch:1.1.0`, `${host.dev}/dev/tide-watch:main`],
    seconds: 8,
  },
];

hostile('a list of tags is one, and ends', lists);
hostile('a document is what it should be', documents);
hostile('a peer that does not speak HTTP is cut off', speaking);
hostile('trees are read once', trees);
