import fc from 'fast-check';
import { LineCounter, parseDocument } from 'yaml';
import { readLayer } from '../../src/archive/layer-entries';
import { unpacked } from '../../src/archive/unpack';
import { onePiece } from '../../src/core/bytes';
import { LayerTree, type LayerMember } from '../../src/core/oci/layer-tree';
import { summed, tarHeader } from '../support/archives';
import { parseChallenges } from '../../src/core/access/challenge';
import { isNear, isThisMachine, resolveAddress } from '../../src/core/access/destinations';
import { explainUnusable, readJobClaims } from '../../src/core/access/job-token';
import { Secrets } from '../../src/core/access/secrets';
import { HodError } from '../../src/core/errors';
import { parseJson, readJson } from '../../src/core/json';
import { parseConfig } from '../../src/core/oci/config';
import { sha256 } from '../../src/core/oci/digest';
import { parseManifest } from '../../src/core/oci/manifest';
import { mediaTypes } from '../../src/core/oci/media-types';
import { parsePlatform } from '../../src/core/oci/platform';
import { parseReference, parseRepository } from '../../src/core/oci/reference';
import { usualVersionTags } from '../../src/core/tags/version-tags';
import { decideBuild } from '../../src/core/build/build';
import { emptyHead, openEntry, readEndLine } from '../../src/core/ledger/entry';
import { parseTemplate, TemplateError } from '../../src/core/tags/template';
import { parseVersion } from '../../src/core/tags/version';
import { toJsonLine, visible } from '../../src/core/text';
import { locationOf } from '../../src/http/exchange';
import { passingProblem } from '../../src/http/status-problems';
import { Tags } from '../../src/registry/tags';
import type { RepositoryRequests } from '../../src/registry/requests';
import { checkDocuments, plainValue } from '../../src/workspace/config-check';
import { withVariables } from '../../src/workspace/config-variables';
import { sampleConfig } from '../../src/sandbox/sample/sample-product';

/**
 * Every reader at an edge, with texts near to right ones and far from them: it answers, or it fails
 * with an error of ours, and it ends. The seeds are kept, so that what was found once is looked for ever.
 */

/** In all. */
const cases = 20_000;
const seeds = [20_261_126, 7, 1_065_353_216];

const url = new URL('https://dev.registry.test/v2/x/tags/list');
const about = { purpose: 'could not fuzz', object: 'a text' };
const utf8 = (text: string): Buffer => Buffer.from(text);
const digest = `sha256:${'a'.repeat(64)}`;
const manifest = JSON.stringify({
  schemaVersion: 2,
  mediaType: mediaTypes.manifest,
  config: { mediaType: mediaTypes.config, digest, size: 2 },
  layers: [{ mediaType: mediaTypes.layerTarGzip, digest, size: 9, annotations: { a: 'b' } }],
  annotations: { 'org.opencontainers.image.revision': 'c' },
});
const index = JSON.stringify({
  schemaVersion: 2,
  mediaType: mediaTypes.index,
  manifests: [
    { mediaType: mediaTypes.manifest, digest, size: 5, platform: { os: 'linux', architecture: 'arm', variant: 'v7' } },
  ],
});
const member = JSON.stringify({
  product: 'skerry-line',
  seq: 1,
  previous: null,
  at: '2026-11-26T00:00:00.000Z',
  actor: 'una',
  action: { kind: 'staged', commit: 'c'.repeat(40), parts: [] },
});
const claims = (text: string): string => `e30.${utf8(text).toString('base64url')}.c2ln`;
const purpose = { registry: 'dev.registry.test', service: 'https://tokens.test/', audience: 'a' };
/** As a tags client has it: what a page says, and where it says that the next one is. */
const listing = (link: string, body: string) =>
  new Tags({
    label: 'dev.registry.test/x',
    fetch: () => Promise.resolve({ statusCode: 200, headers: { link }, url, body: utf8(body) }),
  } as unknown as RepositoryRequests);

/** A .tar of one entry, byte for character. */
const layerText = (name: string, type: string): string =>
  Buffer.concat([tarHeader(name, type, 100), Buffer.alloc(1536, '\0')]).toString('latin1');

/** A reader, and texts that it reads. */
const edges: [name: string, samples: string[], read: (text: string) => unknown][] = [
  [
    'challenges',
    ['Bearer realm="https://tokens.test/t",service="s", Basic realm="x"', 'Negotiate a2V5=='],
    parseChallenges,
  ],
  [
    'addresses',
    ['https://una:pw@tokens.test:443/t?x=1#y', '//[::ffff:127.0.0.1]/', '../v2/x'],
    (text) => {
      const address = resolveAddress(text, url);
      return address && [isNear(address.host), isThisMachine(address.host)];
    },
  ],
  [
    'locations',
    ['/v2/x/blobs/uploads/1?_state=a', 'https://other.test/'],
    (text) => locationOf({ headers: { location: text }, url }, about),
  ],
  [
    'links',
    ['</v2/x/tags/list?last=a&n=1000>; rel="next"', '<a>; rel=next, <b>; rel="prev"; title*=UTF-8\'\'x'],
    async (text) => {
      for await (const tag of listing(text, '{"tags":["1.0.0"]}').list()) {
        expect(tag).toBe('1.0.0');
      }
    },
  ],
  [
    'lists of tags',
    ['{"name":"x","tags":["1.0.0","latest"]}', '{"tags":null}'],
    async (text) => {
      for await (const tag of listing('', text).list()) {
        expect(tag).toMatch(/^\w/);
      }
    },
  ],
  [
    'times to wait',
    ['120', 'Fri, 31 Dec 1999 23:59:59 GMT', '1e9'],
    (text) => passingProblem({ statusCode: 429, headers: { 'retry-after': text } }, about, 'x').retryAfter,
  ],
  [
    'JSON',
    [manifest, '{"a":{"a":[1,"\\u0061",{}]},"b":-1e9}'],
    (text) => {
      const read = readJson(utf8(text)).object;
      // What is read is what the language itself reads.
      return read === undefined || expect(read).toEqual(JSON.parse(utf8(text).toString()));
    },
  ],
  [
    'manifests',
    [manifest, index],
    (text) => parseManifest(utf8(text), { label: 'x', mediaType: undefined, digest: undefined }),
  ],
  [
    'configs',
    ['{"os":"linux","architecture":"arm64","config":{"Labels":{"a":"b"}},"rootfs":{"diff_ids":[]}}'],
    (text) => parseConfig(utf8(text), 'x'),
  ],
  [
    'references',
    ['dev.registry.test:5000/skerry/tide-watch:1.0.0', `[::1]:5000/a/b@${digest}`, 'localhost/a__b'],
    (text) => [parseReference(text), parseRepository(text)],
  ],
  ['platforms', ['linux/arm/v7', 'windows/amd64'], parsePlatform],
  ['versions', ['1.2.3-rc.1+b.7', '2.4.0'], parseVersion],
  ['tag rules', ['c-{commit:12}-{version}', '{branch}-{date}.{build}', '{major}.{minor}'], parseTemplate],
  [
    'hod.yaml',
    [sampleConfig({ dev: 'dev.test', uat: 'uat.test', prod: 'prod.test' }), 'a: &a [*a]\nb: *b\n? {x: 1}\n: |\n  y'],
    (text) => {
      const lines = new LineCounter();
      const document = parseDocument(text, { lineCounter: lines, prettyErrors: false });
      const read = { document, lines, label: 'hod.yaml' };
      const value = plainValue(read);
      return (
        document.errors.length > 0 ||
        'problem' in value ||
        checkDocuments(
          [read],
          withVariables(value.raw, () => undefined),
        )
      );
    },
  ],
  [
    'layers',
    [layerText('app/timetable', '0'), layerText('.wh.gauge', 'x'), layerText('sparse', 'S'), layerText('a', 'L')],
    async (text) => {
      const tree = new LayerTree();
      tree.nextLayer();
      const bytes = summed(Buffer.from(text, 'latin1'));
      const member = (each: LayerMember): void => {
        tree.add(each);
      };
      await readLayer(unpacked(onePiece(bytes), 'here'), { label: 'here', hashing: true, member });
      return [...tree.paths()];
    },
  ],
  [
    'ledger lines',
    [member, '{"end":{"seq":1,"hash":null}}'],
    (text) => {
      readEndLine(text);
      return openEntry({ text, hash: sha256(text) }, emptyHead);
    },
  ],
  [
    'job tokens',
    [claims('{"iss":"https://ci.test","sub":"una","aud":["a"],"exp":1}'), 'a.b.c'],
    (text) => {
      for (const token of [text, claims(text)]) {
        readJobClaims(token);
        explainUnusable(token, purpose, 0);
      }
    },
  ],
  [
    'variables of a CI',
    ['feature/winter', '1207', 'c'.repeat(40), 'v1.0.0', 'https://ci.test/1'],
    (text) => {
      const ci = { commit: text, branch: text, tag: text, build: text, run: text, pullRequest: false };
      return decideBuild({ options: {}, versionTags: usualVersionTags, ci, git: { gap: 'there is none' } });
    },
  ],
  [
    'secrets',
    ['gull"s & terns/%+=', 'dGVybnM=', 'tern%22%2b'],
    (text) => {
      const secrets = new Secrets();
      secrets.keep(text, 'x');
      const said = `${text} ${encodeURIComponent(utf8(text).toString())}`;
      const shown = secrets.redact(said);
      return secrets.unsearchable.length > 0 || expect(shown.includes(text)).toBe(false);
    },
  ],
  [
    'texts',
    ['\u001b]0;x\u0007', 'tide\nwatch', '\u202e\ud800'],
    (text) => {
      expect(visible(text)).not.toMatch(/[\u0000-\u001f\u007f-\u009f\u202a-\u202e\u2066-\u2069]/);
      expect(parseJson(utf8(toJsonLine({ text })))).toEqual({ text });
    },
  ],
];

const nasty = fc.constantFrom(
  ...Array.from('"\'\\{}[]<>,;:=%&*#@/? \t\n\r\0\u001b\u007f\u0085\u202e\ufeff'),
  ...['\ud800', '%00', '..', '//', '\r\n', '__proto__', 'constructor', 'null', '-1', '1e999'],
  ...['9'.repeat(30), '[['.repeat(500), '"'.repeat(300), 'a'.repeat(5000)],
);
/** A text that is nearly right: a sample of which some places hold something else. */
const near = (samples: readonly string[]): fc.Arbitrary<string> =>
  fc
    .tuple(
      fc.constantFrom(...samples),
      fc.array(fc.tuple(fc.nat(), fc.nat(12), fc.oneof(nasty, fc.string({ maxLength: 4 }))), {
        minLength: 1,
        maxLength: 4,
      }),
    )
    .map(([sample, changes]) =>
      changes.reduce((text, [at, cut, put]) => {
        const place = at % (text.length + 1);
        return text.slice(0, place) + put + text.slice(place + cut);
      }, sample),
    );

test.each(edges)('%s', async (_, samples, read) => {
  const text = fc.oneof(
    { weight: 6, arbitrary: near(samples) },
    { weight: 1, arbitrary: fc.string({ unit: 'binary' }) },
    { weight: 1, arbitrary: nasty },
  );
  const attempt = async (each: string): Promise<void> => {
    try {
      await read(each);
    } catch (error) {
      // A rule that cannot be read is told among all that is wrong with hod.yaml.
      if (error instanceof TemplateError) {
        return;
      }
      if (!(error instanceof HodError)) {
        throw error;
      }
      expect(error.code).not.toBe('defect');
    }
  };
  for (const sample of samples) {
    await attempt(sample);
  }
  const numRuns = Math.ceil(cases / edges.length / seeds.length);
  for (const seed of seeds) {
    await fc.assert(fc.asyncProperty(text, attempt), { seed, numRuns });
  }
});
