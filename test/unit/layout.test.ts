import fc from 'fast-check';
import { mkdirSync, mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { dirname, join } from 'node:path';
import { create } from 'tar';
import { readContent, contentOf, platformsOf } from '../../src/core/oci/content';
import { parcelType } from '../../src/core/ledger/parcel-document';
import { sha256 } from '../../src/core/oci/digest';
import { mediaTypes } from '../../src/core/oci/media-types';
import type { Packing } from '../../src/archive/packing';
import { failing } from '../support/seen-errors';
import { parseOutputLocation } from '../../src/archive/output-images';
import { openOutput } from '../../src/archive/output';

let folder: string;
beforeEach(() => (folder = mkdtempSync(join(tmpdir(), 'hod-layout-'))));
afterEach(() => rmSync(folder, { recursive: true }));

/** The files of a layout, by name, built from documents. */
class LayoutBuilder {
  readonly files = new Map<string, string>([['oci-layout', '{"imageLayoutVersion":"1.0.0"}']]);

  blob(mediaType: string, text: string) {
    const digest = sha256(text);
    this.files.set(`blobs/${digest.replace(':', '/')}`, text);
    return { mediaType, digest, size: Buffer.byteLength(text) };
  }

  image(architecture: string, layer: string) {
    const config = this.blob(mediaTypes.config, JSON.stringify({ os: 'linux', architecture }));
    const layers = [this.blob(mediaTypes.layerTar, layer)];
    return this.blob(
      mediaTypes.manifest,
      JSON.stringify({ schemaVersion: 2, mediaType: mediaTypes.manifest, config, layers }),
    );
  }

  index(...manifests: object[]) {
    return this.blob(mediaTypes.index, JSON.stringify({ schemaVersion: 2, mediaType: mediaTypes.index, manifests }));
  }

  entries(...manifests: object[]): void {
    this.files.set('index.json', JSON.stringify({ schemaVersion: 2, manifests }));
  }

  write(): string {
    const path = join(folder, 'layout');
    for (const [name, text] of this.files) {
      mkdirSync(dirname(join(path, name)), { recursive: true });
      writeFileSync(join(path, name), text);
    }
    return path;
  }
}

const named = (descriptor: object, name: string) => ({
  ...descriptor,
  annotations: { 'org.opencontainers.image.ref.name': name },
});
const packing: Packing = {
  compression: 'gzip',
  known: { of: () => ({ recall: () => Promise.resolve(undefined), remember: () => Promise.resolve() }) },
  note: () => undefined,
};
const opened = (location: string) => openOutput(parseOutputLocation(location), packing);
const read = async (location: string) => {
  const { source, root } = await opened(location);
  return readContent(source, root);
};

test('a .tar gives what the folder gives, whatever the order and the length of its names', async () => {
  const builder = new LayoutBuilder();
  builder.entries(builder.index(builder.image('amd64', 'one'), builder.image('arm64', 'two'.repeat(1000))));
  // Builders add files of their own, some with names that need the extended headers of a .tar.
  builder.files.set(`notes/${'long-'.repeat(30)}/${'name-'.repeat(20)}`, 'note');
  const path = builder.write();
  const expected = contentOf(await read(path));
  const names = [...builder.files.keys()];
  await fc.assert(
    fc.asyncProperty(fc.shuffledSubarray(names, { minLength: names.length }), fc.boolean(), async (order, dotted) => {
      const file = join(folder, 'layout.tar');
      await create({ file, cwd: path }, dotted ? order.map((name) => `./${name}`) : order);
      const node = await read(file);
      expect(contentOf(node)).toEqual(expected);
      expect(await platformsOf(node)).toEqual(['linux/amd64', 'linux/arm64']);
      for (const blob of expected.blobs) {
        const pieces = [];
        for await (const piece of await (node.children[0] ?? node).source.openBlob(blob)) {
          pieces.push(piece);
        }
        expect(sha256(Buffer.concat(pieces))).toBe(blob.digest);
      }
    }),
    { numRuns: 30 },
  );
});

test('entries are chosen by name, and asked for where it is not clear which is meant', async () => {
  const builder = new LayoutBuilder();
  const [one, two] = [builder.image('amd64', 'one'), builder.image('arm64', 'two')];
  builder.entries(named(one, 'one'), named(two, 'two'), named(two, 'two-again'));
  const path = builder.write();
  expect((await read(`${path}#two-again`)).manifest.digest).toBe(two.digest);
  expect((await failing('output-ambiguous', () => read(path))).problem.why).toContain('one, two');
  await failing('output-image-missing', () => read(`${path}#three`));
});

test('indexes within indexes are read to the bottom; one that goes deeper than any builder writes is refused', async () => {
  const builder = new LayoutBuilder();
  builder.entries(builder.index(builder.image('amd64', 'one'), builder.index(builder.image('arm64', 'two'))));
  expect(await platformsOf(await read(builder.write()))).toEqual(['linux/amd64', 'linux/arm64']);

  const deep = new LayoutBuilder();
  let node = deep.image('amd64', 'one');
  for (let depth = 0; depth < 12; depth += 1) {
    node = deep.index(node);
  }
  deep.entries(node);
  await failing('nested-too-deeply', () => read(deep.write()));
});

test('an entry whose size is not the one claimed is refused', async () => {
  const builder = new LayoutBuilder();
  builder.entries({ ...builder.image('amd64', 'one'), size: 3 });
  await failing('layout-corrupt', () => read(builder.write()));
});

test('a referrer that is damaged is told; one that is not there is none of ours', async () => {
  const build = new LayoutBuilder();
  const image = build.image('amd64', 'a layer');
  const config = build.blob('application/vnd.oci.empty.v1+json', '{}');
  const document = { schemaVersion: 2, mediaType: mediaTypes.manifest, config, layers: [config], subject: image };
  const referrer = build.blob(mediaTypes.manifest, JSON.stringify(document));
  build.entries(named(image, 'timetable'), referrer);
  const place = `${build.write()}#timetable`;
  const { source, root } = await opened(place);
  expect(await source.referrersOf?.(root.digest)).toHaveLength(1);
  const file = join(folder, 'layout', 'blobs', referrer.digest.replace(':', '/'));
  writeFileSync(file, JSON.stringify(document).replace('{"schemaVersion":2', '{"schemaVersion":3'));
  await failing('manifest-corrupt', () => opened(place));
  rmSync(file);
  expect(await (await opened(place)).source.referrersOf?.(root.digest)).toEqual([]);
});

test('a manifest that a parcel leaves out is named as what it is, in place of an error of the system', async () => {
  const build = new LayoutBuilder();
  const image = build.image('amd64', 'a layer');
  const leftOut = { releases: ['2.4.0'], blobs: [{ digest: image.digest, size: image.size }] };
  const document = build.blob(
    parcelType,
    JSON.stringify({ product: 'skerry-line', releases: [], entries: [], leftOut }),
  );
  const manifest = { schemaVersion: 2, mediaType: mediaTypes.manifest, artifactType: parcelType };
  const about = build.blob(mediaTypes.manifest, JSON.stringify({ ...manifest, config: document, layers: [document] }));
  build.entries(named(image, 'timetable'), { ...about, artifactType: parcelType });
  build.files.delete(`blobs/${image.digest.replace(':', '/')}`);
  const place = `${build.write()}#timetable`;
  expect((await failing('blob-left-out', () => read(place))).problem.next).toMatch(/parcel of 2\.4\.0 first/);
});
