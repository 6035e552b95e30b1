import fc from 'fast-check';
import { HodError } from '../../src/core/errors';
import { parseConfig } from '../../src/core/oci/config';
import { verified } from '../../src/core/oci/content';
import { sha256 } from '../../src/core/oci/digest';
import { blobsOf, describeManifest, parseManifest } from '../../src/core/oci/manifest';
import { mediaTypes } from '../../src/core/oci/media-types';
import { formatPlatform, parsePlatform, platformKey } from '../../src/core/oci/platform';
import { formatReference, parseReference, parseRepository } from '../../src/core/oci/reference';

const faultOf = (work: () => unknown): string => {
  try {
    work();
    return 'none';
  } catch (error) {
    return error instanceof HodError ? error.fault : 'defect';
  }
};
const bytesOf = (document: unknown) => Buffer.from(JSON.stringify(document));

describe('references', () => {
  const part = fc.stringMatching(/^[a-z0-9]{1,8}((\.|_|__|-{1,3})[a-z0-9]{1,8}){0,2}$/);
  const name = fc.array(part, { minLength: 1, maxLength: 4 }).map((parts) => parts.join('/'));
  const registry = fc.constantFrom('registry.test', 'localhost', 'localhost:5000', '127.0.0.1:80', '[::1]:5000');
  const tag = fc.option(fc.stringMatching(/^[a-zA-Z0-9_][a-zA-Z0-9._-]{0,20}$/), { nil: undefined });
  const digest = fc.option(fc.string().map(sha256), { nil: undefined });

  test('what is written is read back as it was', () => {
    fc.assert(
      fc.property(registry, name, tag, digest, (host, path, tagText, digestText) => {
        const text = `${host}/${path}${tagText === undefined ? '' : `:${tagText}`}${digestText === undefined ? '' : `@${digestText}`}`;
        const reference = parseReference(text);
        expect(reference).toEqual({ repository: { registry: host, name: path }, tag: tagText, digest: digestText });
        expect(formatReference(reference)).toBe(text);
      }),
    );
  });

  test.each([
    'timetable',
    'skerry/timetable',
    'registry.test/Skerry',
    'registry.test/a//b',
    'registry.test/',
    'a b.test/x',
  ])('%s is not a repository', (text) => expect(faultOf(() => parseRepository(text))).toBe('usage'));
  test.each(['registry.test/a:', 'registry.test/a:.b', 'registry.test/a@sha256:12', 'registry.test/a:b:c'])(
    '%s is not a reference',
    (text) => expect(faultOf(() => parseReference(text))).toBe('usage'),
  );
});

describe('platforms', () => {
  test.each([
    ['linux/arm64/v8', 'linux/arm64'],
    ['linux/amd64/v1', 'linux/amd64'],
    ['linux/arm', 'linux/arm/v7'],
    ['linux/arm/v6', 'linux/arm/v6'],
    ['linux/amd64/v3', 'linux/amd64/v3'],
  ])('%s is %s', (written, normal) => expect(formatPlatform(parsePlatform(written))).toBe(normal));

  test('Windows versions are told apart, other spellings of one platform are not', () => {
    const windows = (version: string) => platformKey({ os: 'windows', architecture: 'amd64', 'os.version': version });
    expect(windows('10.0.1')).not.toBe(windows('10.0.2'));
    expect(platformKey(parsePlatform('linux/arm64'))).toBe(platformKey(parsePlatform('linux/arm64/v8')));
    expect(faultOf(() => parsePlatform('linux'))).toBe('usage');
  });
});

describe('manifests', () => {
  const blob = (text: string) => ({ mediaType: mediaTypes.layerTar, digest: sha256(text), size: text.length });
  const image = {
    schemaVersion: 2,
    mediaType: mediaTypes.manifest,
    config: blob('config'),
    layers: [blob('a'), blob('a')],
  };
  const parse = (document: unknown, mediaType?: string) =>
    parseManifest(bytesOf(document), { label: 'here', mediaType });

  test('the bytes stay as they were read, whatever their spacing and unknown keys', () => {
    const bytes = Buffer.from(`  ${JSON.stringify({ ...image, unknown: [1] }, undefined, 3)}\n`);
    const manifest = parseManifest(bytes, { label: 'here' });
    expect(manifest.bytes).toBe(bytes);
    expect(describeManifest(manifest)).toEqual({
      mediaType: image.mediaType,
      digest: sha256(bytes),
      size: bytes.length,
    });
    expect(blobsOf(manifest).map(({ size }) => size)).toEqual([6, 1]);
  });

  test('older media types and documents without one are read by what they are', () => {
    const bare = { ...image, mediaType: undefined };
    expect(parse({ ...image, mediaType: mediaTypes.olderManifest }).kind).toBe('image');
    expect(parse(bare).mediaType).toBe(mediaTypes.manifest);
    expect(parse(bare, mediaTypes.olderManifest).mediaType).toBe(mediaTypes.olderManifest);
    const index = { schemaVersion: 2, manifests: [{ ...blob('m'), platform: { os: 'linux', architecture: 'arm64' } }] };
    expect(parse(index).kind).toBe('index');
    expect(parse(index, mediaTypes.olderIndex).kind).toBe('index');
  });

  test.each([
    ['could be read both ways', { ...image, manifests: [] }],
    ['calls itself something else', image, mediaTypes.index],
    ['is of an unknown type', { ...image, mediaType: 'application/json' }],
    ['has no config', { ...image, config: undefined }],
    ['names a digest that is none', { ...image, layers: [{ ...blob('a'), digest: 'sha256:12' }] }],
    ['has a negative size', { ...image, layers: [{ ...blob('a'), size: -1 }] }],
    ['is of the first schema', { ...image, schemaVersion: 1 }],
    ['is no object', []],
  ])('one that %s is corrupt', (_, ...[document, mediaType]: (object | string)[]) => {
    expect(faultOf(() => parse(document, typeof mediaType === 'string' ? mediaType : undefined))).toBe('corrupt');
  });

  test('bytes that are not those that were promised are corrupt', () => {
    const bytes = bytesOf(image);
    const promised = { label: 'here', digest: sha256(bytes), size: bytes.length };
    expect(faultOf(() => parseManifest(bytes, promised))).toBe('none');
    expect(faultOf(() => parseManifest(bytes, { ...promised, size: 1 }))).toBe('corrupt');
    expect(
      faultOf(() => parseManifest(Buffer.concat([bytes, Buffer.from(' ')]), { ...promised, size: undefined })),
    ).toBe('corrupt');
  });
});

test('no reader ever completes with content that is not what its descriptor promises', async () => {
  const pieces = fc.array(fc.uint8Array({ minLength: 1, maxLength: 40 }), { minLength: 1, maxLength: 6 });
  const change = fc.constantFrom('nothing', 'flip', 'cut', 'add');
  await fc.assert(
    fc.asyncProperty(pieces, change, fc.nat(), async (content, how, at) => {
      const whole = Buffer.concat(content);
      const descriptor = { mediaType: mediaTypes.layerTar, digest: sha256(whole), size: whole.length };
      const sent = content.map((piece) => Buffer.from(piece));
      const victim = sent[at % sent.length] ?? Buffer.alloc(0);
      if (how === 'flip') {
        victim[at % victim.length] = (victim[at % victim.length] ?? 0) ^ 1;
      } else if (how === 'cut') {
        sent.pop();
      } else if (how === 'add') {
        sent.push(Buffer.from([at % 256]));
      }
      const arrived: Uint8Array[] = [];
      let fault = 'none';
      try {
        async function* source() {
          yield* sent;
        }
        for await (const piece of verified(source(), descriptor, 'here')) {
          arrived.push(piece);
        }
      } catch (error) {
        fault = error instanceof HodError ? error.fault : 'defect';
      }
      expect(fault).toBe(how === 'nothing' ? 'none' : 'corrupt');
      // A receiver that was promised this size is left waiting for the rest.
      expect(Buffer.concat(arrived).length < whole.length).toBe(how !== 'nothing');
    }),
  );
});

describe('what the image specification asks for at the edge', () => {
  const digest = sha256('x');
  const type = mediaTypes.layerTar;
  const imageWith = (layer: object) => ({
    schemaVersion: 2,
    mediaType: mediaTypes.manifest,
    config: { mediaType: mediaTypes.config, digest, size: 1 },
    layers: [{ mediaType: type, digest, size: 1, ...layer }],
  });
  const whyOf = (work: () => unknown): string => {
    try {
      work();
      return 'nothing';
    } catch (error) {
      return error instanceof HodError ? [error.problem.why ?? ''].flat().join('; ') : String(error);
    }
  };

  test.each<[string, object, RegExp]>([
    ['a media type without a subtype', { mediaType: 'layer' }, /layers\[0\]\.mediaType: must be a media type/],
    ['a media type with a blank', { mediaType: 'a/b c' }, /layers\[0\]\.mediaType: must be a media type/],
    ['a size that is none', { size: 1.5 }, /layers\[0\]\.size/],
    [
      'a digest algorithm that nobody registered',
      { digest: 'md5:0123' },
      /digest algorithm md5 is not a registered one/,
    ],
    ['a digest of another length', { digest: 'sha256:01' }, /layers\[0\]\.digest: must be a digest/],
    ['a place that is no URI', { urls: ['not a place'] }, /layers\[0\]\.urls\[0\]: must be a URI/],
  ])('%s', (_, layer, why) => {
    const parse = (document: object) => parseManifest(bytesOf(document), { label: 'here' });
    expect(whyOf(() => parse(imageWith(layer)))).toMatch(why);
    expect(whyOf(() => parse(imageWith({ urls: ['https://layers.test/x'] })))).toBe('nothing');
  });

  test.each<[string, object, RegExp]>([
    ['a user that is a number', { config: { User: 1000 } }, /config\.User/],
    ['a variable without a value', { config: { Env: ['PIER'] } }, /config\.Env\[0\]: must be NAME=value/],
    ['labels that are a list', { config: { Labels: ['a'] } }, /config\.Labels/],
    ['no architecture', { architecture: undefined }, /architecture/],
    ['a diff ID that is no digest', { rootfs: { diff_ids: ['x'] } }, /rootfs\.diff_ids\[0\]/],
  ])('a config with %s', (_, more, why) => {
    const config = { os: 'linux', architecture: 'amd64', config: { User: '1000', Env: ['PIER=north'] } };
    expect(whyOf(() => parseConfig(bytesOf(config), 'here'))).toBe('nothing');
    expect(whyOf(() => parseConfig(bytesOf({ ...config, ...more }), 'here'))).toMatch(why);
  });
});
