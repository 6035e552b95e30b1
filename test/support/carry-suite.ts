import { createHash } from 'node:crypto';
import { join } from 'node:path';
import { hod, hodJson } from './hod';
import { OtherClient } from './other-client';
import { pushLayout } from './builder';
import { readRepository } from './registry-reader';
import type { SandboxWorld, World } from './world';

const oci = 'application/vnd.oci.image';
const older = 'application/vnd.docker';
const [manifestType, indexType] = [`${oci}.manifest.v1+json`, `${oci}.index.v1+json`];
const [olderManifest, olderList] = [
  `${older}.distribution.manifest.v2+json`,
  `${older}.distribution.manifest.list.v2+json`,
];

/** A manifest as it is pushed, and the blobs and manifests below it. */
interface Made {
  readonly bytes: string;
  readonly type: string;
  readonly blobs: readonly string[];
  readonly children: readonly Made[];
}

function digestOf(text: string): string {
  return `sha256:${createHash('sha256').update(text).digest('hex')}`;
}

function describe_(mediaType: string, text: string) {
  return { mediaType, digest: digestOf(text), size: Buffer.byteLength(text) };
}

interface ImageShape {
  readonly platform?: object;
  readonly layers?: readonly { readonly type?: string; readonly text: string }[];
  readonly type?: string;
  readonly more?: object;
  readonly config?: { readonly type: string; readonly text: string };
}

/** An image or an artifact. */
function image({ platform, layers, type = manifestType, more = {}, config }: ImageShape = {}): Made {
  const own = layers ?? [{ text: `layer of ${JSON.stringify(platform ?? {})}` }];
  const text = config?.text ?? JSON.stringify({ os: 'linux', architecture: 'amd64', ...platform });
  const configType =
    config?.type ?? (type === olderManifest ? `${older}.container.image.v1+json` : `${oci}.config.v1+json`);
  const layerType = type === olderManifest ? `${older}.image.rootfs.diff.tar.gzip` : `${oci}.layer.v1.tar+gzip`;
  const document = {
    schemaVersion: 2,
    mediaType: type,
    config: describe_(configType, text),
    layers: own.map((layer) => describe_(layer.type ?? layerType, layer.text)),
    ...more,
  };
  return { bytes: JSON.stringify(document), type, blobs: [text, ...own.map((layer) => layer.text)], children: [] };
}

/** An index of images, each listed with what is given beside it. */
function index(children: readonly (readonly [Made, object?])[], type = indexType, more: object = {}): Made {
  const manifests = children.map(([child, beside]) => ({ ...describe_(child.type, child.bytes), ...beside }));
  const document = { schemaVersion: 2, mediaType: type, manifests, ...more };
  return { bytes: JSON.stringify(document), type, blobs: [], children: children.map(([child]) => child) };
}

const on = (architecture: string, os = 'linux', more: object = {}) => ({ platform: { architecture, os, ...more } });
const [amd64, arm64, arm] = [
  image(on('amd64')),
  image(on('arm64')),
  image(on('arm', 'linux', { variant: 'v7' })),
] as const;
const empty = { type: 'application/vnd.oci.empty.v1+json', text: '{}' };

/** Content of every kind that registries hold. */
const kinds: Readonly<Record<string, Made>> = {
  'a single image': amd64,
  'an older image': image({ ...on('amd64'), type: olderManifest }),
  'an image whose layers are not compressed': image({ layers: [{ type: `${oci}.layer.v1.tar`, text: 'plain' }] }),
  'an image with a zstd layer': image({ layers: [{ type: `${oci}.layer.v1.tar+zstd`, text: 'small' }] }),
  'an image with a layer of an unknown type': image({
    layers: [{ type: 'application/vnd.skerry.chart', text: 'sea' }],
  }),
  'an image with forty layers': image({
    layers: Array.from({ length: 40 }, (_, at) => ({ text: `layer ${at}` })),
  }),
  'an image that names one layer twice': image({ layers: [{ text: 'twice' }, { text: 'twice' }] }),
  'an image without layers': image({ layers: [] }),
  'an image with an empty layer': image({ layers: [{ text: '' }] }),
  'an image with annotations in other scripts': image({
    more: { annotations: { 'org.skerry.næmnt': 'Sjøgløtt ✓ 潮' } },
  }),
  'an image whose manifest has keys that nobody knows': image({ more: { 'x-skerry': { tide: [1, 2.5e3] } } }),
  'an image with a config that says nothing': image({ config: { type: `${oci}.config.v1+json`, text: '{}' } }),
  'an image for another system': image(on('amd64', 'windows', { 'os.version': '10.0.1' })),
  'an index for two platforms': index([
    [amd64, on('amd64')],
    [arm64, on('arm64')],
  ]),
  'an index for three, one with a variant': index([
    [amd64, on('amd64')],
    [arm64, on('arm64')],
    [arm, on('arm', 'linux', { variant: 'v7' })],
  ]),
  'an older list': index(
    [
      [image({ ...on('amd64'), type: olderManifest }), on('amd64')],
      [image({ ...on('arm64'), type: olderManifest }), on('arm64')],
    ],
    olderList,
  ),
  'an index with annotations of its own': index([[amd64, on('amd64')]], indexType, {
    annotations: { 'org.opencontainers.image.revision': 'a'.repeat(40) },
  }),
  'an index whose entries have annotations': index([[amd64, { ...on('amd64'), annotations: { tide: 'high' } }]]),
  'an index in an index': index([[index([[amd64, on('amd64')]])], [arm64, on('arm64')]]),
  'an index that names one image twice': index([
    [amd64, on('amd64')],
    [amd64, on('amd64', 'linux', { variant: 'v2' })],
  ]),
  'an index with an attestation': index([
    [amd64, on('amd64')],
    [
      image({ ...on('unknown', 'unknown'), layers: [{ type: 'application/vnd.in-toto+json', text: '{"_type":1}' }] }),
      { ...on('unknown', 'unknown'), annotations: { 'vnd.skerry.about': digestOf(amd64.bytes) } },
    ],
  ]),
  'an index without platforms': index([[amd64], [arm64]]),
  'an index of nothing': index([]),
  'an index that is an artifact': index([[amd64, on('amd64')]], indexType, {
    artifactType: 'application/vnd.skerry.set',
  }),
  'an artifact by its type': image({
    config: empty,
    layers: [{ type: 'application/vnd.skerry.tides.v1+json', text: '{"high":4}' }],
    more: { artifactType: 'application/vnd.skerry.tides.v1' },
  }),
  'an artifact by its config': image({
    config: { type: 'application/vnd.skerry.chart.config.v1+json', text: '{"name":"chart"}' },
    layers: [{ type: 'application/vnd.skerry.chart.v1.tar+gzip', text: 'chart' }],
  }),
  'a module': image({
    config: { type: 'application/vnd.skerry.module.config.v0+json', text: '{"architecture":"wasm","os":"wasip1"}' },
    layers: [{ type: 'application/wasm', text: '\0asm' }],
  }),
  'an artifact of empty parts': image({
    config: empty,
    layers: [{ type: empty.type, text: '{}' }],
    more: { artifactType: 'application/vnd.skerry.nothing' },
  }),
  'a manifest written by hand': {
    ...amd64,
    bytes: JSON.stringify(JSON.parse(amd64.bytes), undefined, '\t').replaceAll('\n', '\r\n') + '\r\n\r\n',
  },
  'a manifest whose keys stand in another order': {
    ...amd64,
    bytes: JSON.stringify(Object.fromEntries(Object.entries(JSON.parse(amd64.bytes) as object).reverse())),
  },
  'a large manifest': image({ more: { annotations: { 'org.skerry.log': 'tide '.repeat(160_000) } } }),
};

/** Content is copied as it is, between registries of a kind. */
export function carrySuite(kind: string, start: () => Promise<Pick<SandboxWorld, 'world' | 'close'>>): void {
  describe(`content is carried as it is, at ${kind}`, () => {
    let world: World;
    let close: () => Promise<void>;
    beforeAll(async () => ({ world, close } = await start()));
    afterAll(() => close());

    const carry = (...args: string[]) => hodJson('carry', ['carry', ...args], world.options);

    /** Pushes content as somebody else does. Answers its digest. */
    async function push(made: Made, repository: string, tag: string): Promise<string> {
      const base = `http://127.0.0.1:${world.readPorts.dev}/v2/${repository}`;
      const put = async ({ bytes, type }: Made, reference: string): Promise<void> => {
        const response = await fetch(`${base}/manifests/${reference}`, {
          method: 'PUT',
          body: bytes,
          headers: { 'content-type': type },
        });
        expect(response.status).toBe(201);
      };
      const all = async (each: Made, reference: string): Promise<void> => {
        for (const child of each.children) {
          await all(child, digestOf(child.bytes));
        }
        for (const text of new Set(each.blobs)) {
          const begun = await fetch(`${base}/blobs/uploads/`, { method: 'POST' });
          const place = new URL(begun.headers.get('location') ?? '', base);
          place.searchParams.set('digest', digestOf(text));
          await fetch(place, { method: 'PUT', body: text, headers: { 'content-type': 'application/octet-stream' } });
        }
        await put(each, reference);
      };
      await all(made, tag);
      return digestOf(made.bytes);
    }

    test('every kind of content arrives byte for byte, with its referrers', async () => {
      const repository = 'kinds/all';
      const dev = new OtherClient(world.readPorts.dev, repository);
      const made = Object.values(kinds);
      expect(made.length).toBeGreaterThanOrEqual(30);
      for (const [at, each] of made.entries()) {
        const digest = await push(each, repository, `kind-${at}`);
        const subject = { digest, mediaType: each.type, size: Buffer.byteLength(each.bytes) };
        const report = await dev.attach(subject, 'application/vnd.skerry.report', `about ${digest}`);
        await dev.attach(report, 'application/vnd.skerry.signature', `signed ${digest}`);
        await dev.attach(subject, 'application/vnd.skerry.signature', 'beside it', '.sig');
      }
      const sources = made.map((_, at) => `${world.host('dev')}/${repository}:kind-${at}`);
      const target = `${world.host('prod')}/${repository}`;
      const carried = await carry(...sources, target);
      expect(carried.images.map(({ digest, mediaType, tags }) => [digest, mediaType, tags[0]?.outcome])).toEqual(
        made.map(({ bytes, type }) => [digestOf(bytes), type, 'created']),
      );
      const read = (port: number) => readRepository(port, repository);
      const [there, here] = [await read(world.readPorts.prod), await read(world.readPorts.dev)];
      expect(there).toEqual(here);
      const prod = new OtherClient(world.readPorts.prod, repository);
      for (const { bytes } of made) {
        const digest = digestOf(bytes);
        expect(there.manifests[digest]).toBe(Buffer.from(bytes).toString('latin1'));
        const belongs = await prod.everythingOn(digest);
        expect(belongs).toEqual(await dev.everythingOn(digest));
        expect(belongs.size).toBeGreaterThanOrEqual(4);
      }
      const again = await carry(...sources, target);
      expect(
        again.images.filter(({ transfer, tags }) => transfer.blobsSent > 0 || tags[0]?.outcome !== 'unchanged'),
      ).toEqual([]);
      expect(again.images.filter(({ referrers }) => referrers.brought > 0 || referrers.present < 3)).toEqual([]);
    });

    test('several at once, one platform by itself, outputs of this machine, and into another repository of the registry', async () => {
      const [one, two] = ['an index for two platforms', 'a single image'].map((name) => kinds[name]);
      if (one === undefined || two === undefined) {
        throw new Error('there are such kinds');
      }
      const source = `${world.host('dev')}/several/images`;
      await push(one, 'several/images', 'one');
      await push(two, 'several/images', 'two');
      const target = `${world.host('prod')}/several/images`;
      const dry = await carry(`${source}:one`, `${source}:two`, target, '--dry-run');
      // The second is a part of the first.
      expect(dry.images.map(({ transfer }) => transfer.blobsSent)).toEqual([4, 0]);
      expect((await readRepository(world.readPorts.prod, 'several/images')).tags).toEqual({});
      await carry(`${source}:one`, `${source}:two`, target);
      expect((await readRepository(world.readPorts.prod, 'several/images')).tags).toEqual({
        one: digestOf(one.bytes),
        two: digestOf(two.bytes),
      });
      // One platform is one manifest; the tag of the index is not its tag.
      const single = await carry(`${source}:one`, `${world.host('prod')}/several/arm`, '--platform', 'linux/arm64');
      expect(single.images).toMatchObject([{ digest: digestOf(arm64.bytes), platforms: ['linux/arm64'], tags: [] }]);
      await carry(`${source}:one`, `${world.host('prod')}/several/arm:only`, '--platform', 'linux/arm64');
      expect((await readRepository(world.readPorts.prod, 'several/arm')).tags).toEqual({ only: digestOf(arm64.bytes) });
      await world.fails('platform-missing', 'carry', `${source}:one`, target, '--platform', 'linux/s390x');
      // Within one registry nothing is sent.
      const mounted = await carry(`${source}:one`, `${world.host('dev')}/several/others`);
      expect(mounted.images).toMatchObject([{ transfer: { bytesSent: 0, blobsSent: 0 } }]);
      // A build output of this machine has no tag.
      const output = await carry('out/tide-watch', `${world.host('prod')}/several/gauge:7`);
      const pushed = await pushLayout(
        world.readPorts.dev,
        'several/gauge',
        join(world.product.folder, 'out', 'tide-watch'),
        'built',
      );
      expect(output.images).toMatchObject([{ digest: pushed, tags: [{ tag: '7', outcome: 'created' }] }]);
    });

    test('a tag is never moved, and one tag never leads to two', async () => {
      const source = `${world.host('dev')}/fixed/images`;
      const target = `${world.host('prod')}/fixed/images`;
      await push(amd64, 'fixed/images', 'one');
      await push(arm64, 'fixed/images', 'two');
      await carry(`${source}:one`, `${target}:1.0`);
      const taken = await world.fails('fixed-tag-taken', 'carry', `${source}:two`, `${target}:1.0`);
      expect(taken.why).toContain(digestOf(amd64.bytes));
      await world.fails('options-conflict', 'carry', `${source}:one`, `${source}:two`, `${target}:2.0`);
      await push(arm64, 'fixed/others', 'one');
      const others = `${world.host('dev')}/fixed/others`;
      await world.fails('options-conflict', 'carry', `${source}:one`, `${others}:one`, target);
      await world.fails('not-a-reference', 'carry', `${source}:one`, `${target}@${digestOf(amd64.bytes)}`);
      await world.fails('image-missing', 'carry', `${source}:three`, target);
      await world.fails('command-line', 'carry', target);
      expect((await readRepository(world.readPorts.prod, 'fixed/images')).tags).toEqual({
        '1.0': digestOf(amd64.bytes),
      });
      const said = await hod(['carry', `${source}@${digestOf(arm64.bytes)}`, target], world.options);
      expect(said.stdout).toMatch(/no tag leads to it/);
    });
  });
}
