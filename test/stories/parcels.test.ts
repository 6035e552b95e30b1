import { createHash } from 'node:crypto';
import { execFileSync } from 'node:child_process';
import { cp, mkdir, mkdtemp, readdir, readFile, rm, stat, writeFile } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { z } from 'zod';
import { startSandboxRegistry } from '../../src/sandbox/registry/router';
import type { ErrorCode } from '../../src/core/errors';
import { hod, hodFails, hodJson, type HodOptions } from '../support/hod';
import { OtherClient } from '../support/other-client';
import { playLines, readPage, sectionOf, shellBlocks } from '../support/play-page';
import { readRepository } from '../support/registry-reader';
import { components, sandboxWorld, type SandboxWorld } from '../support/world';

let sandbox: SandboxWorld;
let folder: string;
beforeEach(async () => {
  sandbox = await sandboxWorld();
  folder = sandbox.world.product.folder;
});
afterEach(() => sandbox.close());

const sha256 = (bytes: Buffer): string => createHash('sha256').update(bytes).digest('hex');
const inside = (...names: string[]): string => join(folder, ...names);
const pack = (...args: string[]) => hodJson('pack', ['pack', ...args], sandbox.world.options);

const descriptor = z.object({
  digest: z.string(),
  size: z.number(),
  artifactType: z.string().optional(),
  annotations: z.object({ 'org.opencontainers.image.ref.name': z.string().optional() }).optional(),
});
const document = z.object({
  manifests: z.array(descriptor).optional(),
  config: descriptor.optional(),
  layers: z.array(descriptor).optional(),
});

/** Reads an image layout by code that shares nothing with Hod: every file is needed, and is what its name says. */
async function readLayout(place: string): Promise<Map<string, string>> {
  const read = new Set<string>();
  const visit = async (digest: string, isManifest: boolean): Promise<void> => {
    const hex = digest.replace('sha256:', '');
    const bytes = await readFile(join(place, 'blobs', 'sha256', hex));
    expect(sha256(bytes)).toBe(hex);
    read.add(hex);
    if (isManifest) {
      const { manifests = [], config, layers = [] } = document.parse(JSON.parse(bytes.toString('utf8')));
      for (const each of manifests) {
        await visit(each.digest, true);
      }
      for (const each of [...(config === undefined ? [] : [config]), ...layers]) {
        await visit(each.digest, false);
      }
    }
  };
  expect(JSON.parse(await readFile(join(place, 'oci-layout'), 'utf8'))).toEqual({ imageLayoutVersion: '1.0.0' });
  const { manifests = [] } = document.parse(JSON.parse(await readFile(join(place, 'index.json'), 'utf8')));
  for (const { digest } of manifests) {
    await visit(digest, true);
  }
  expect((await readdir(join(place, 'blobs', 'sha256'))).sort()).toEqual([...read].sort());
  return new Map(
    manifests.flatMap(({ annotations, artifactType, digest }): [string, string][] => {
      const name = annotations?.['org.opencontainers.image.ref.name'] ?? artifactType;
      return name === undefined ? [] : [[name, digest]];
    }),
  );
}

async function unpacked(file: string): Promise<string> {
  const place = await mkdtemp(join(sandbox.world.folder, 'layout-'));
  execFileSync('tar', ['-xf', file, '-C', place]);
  return place;
}

/** Runs a command, and kills it when it has told so many lines of what it does. Answers whether it came to that. */
async function killedAt(line: number, args: readonly string[], options: HodOptions): Promise<boolean> {
  let seen = 0;
  const run = await hod([...args, '--verbose'], {
    ...options,
    started: (child) =>
      child.stderr?.on('data', (text: Buffer) => {
        seen += text.toString().split('\n').length - 1;
        if (seen >= line) {
          child.kill('SIGKILL');
        }
      }),
  });
  return run.code === null;
}

/** A release in uat, of images that have referrers. */
async function releaseInUat(): Promise<void> {
  const { world } = sandbox;
  await world.product.sign();
  await world.publish();
  const dev = new OtherClient(world.ports.dev, 'skerry/timetable');
  const subject = await dev.subject('2.4.0');
  await dev.attach(
    await dev.attach(subject, 'application/vnd.skerry.report', 'all well'),
    'application/vnd.skerry.seal',
    'yes',
  );
  await dev.attach(subject, 'application/vnd.skerry.seal', 'beside it', '.sig');
  await world.promote('uat');
}

test('a parcel is an image layout that others read: the same release, the same bytes, as a file and as a folder', async () => {
  await releaseInUat();
  const dry = await pack('uat', '--out', 'skerry.tar', '--dry-run');
  const packed = await pack('uat', '--out', 'skerry.tar');
  expect({ ...packed, dryRun: true }).toEqual(dry);
  expect(packed).toMatchObject({ releases: [{ version: '2.4.0' }], kept: 0, ledgerEntries: 2 });
  expect(packed.contents.map(({ name, kind }) => [name, kind])).toEqual([
    ['timetable', 'image'],
    ['boarding-gate', 'image'],
    ['tide-watch', 'image'],
    ['fare-tables', 'bundle'],
  ]);
  const place = await unpacked(inside('skerry.tar'));
  const names = await readLayout(place);
  for (const { name, digest } of packed.contents) {
    expect(names.get(name)).toBe(digest);
  }
  expect([...names.keys()]).toContain('application/vnd.hod.parcel.v1+json');
  const files = (await readdir(join(place, 'blobs', 'sha256'))).map((name) => join(place, 'blobs', 'sha256', name));
  const sizes = await Promise.all(
    [join(place, 'oci-layout'), join(place, 'index.json'), ...files].map((each) => stat(each)),
  );
  expect(sizes.reduce((sum, { size }) => sum + size, 0)).toBe(packed.size);
  const first = sha256(await readFile(inside('skerry.tar')));
  await pack('2.4.0', '--out', 'again.tar');
  expect(sha256(await readFile(inside('again.tar')))).toBe(first);
  await pack('uat', '--out', 'skerry');
  expect(await readLayout(inside('skerry'))).toEqual(names);
  expect((await pack('uat', '--out', 'skerry')).kept).toBeGreaterThan(packed.size * 0.9);
  // Without hod.yaml and ledger: one image, with what refers to it.
  const image = await pack(sandbox.world.repository('uat', 'timetable:2.4.0'), '--out', 'one');
  expect(image).toMatchObject({ releases: [], contents: [{ name: 'timetable:2.4.0' }], referrers: 3 });
  await readLayout(inside('one'));
  await sandbox.world.fails('never-published', 'pack', '9.9.9', '--out', 'x.tar');
  await sandbox.world.fails('folder-in-use', 'pack', 'uat', '--out', 'out');
  await writeFile(inside('notes.tar'), 'no archive');
  await sandbox.world.fails('folder-in-use', 'pack', 'uat', '--out', 'notes.tar');
  await mkdir(inside('uat'));
  expect((await pack('uat', '--out', 'skerry.tar', '--dry-run')).releases).toHaveLength(1);
  await sandbox.world.fails('options-conflict', 'pack', 'uat', 'dev', '--out', 'x.tar');
  await sandbox.world.fails('environment-empty', 'pack', 'prod', '--out', 'x.tar');
});

test('a run that was killed, or whose leftovers are damaged, is gone on with, and ends with the same bytes', async () => {
  await releaseInUat();
  await pack('uat', '--out', 'whole.tar');
  const whole = await readFile(inside('whole.tar'));
  // Whole blobs are kept; what was cut off or damaged is written again.
  const leftovers: readonly (readonly [string, Buffer])[] = [
    ['cut off', whole.subarray(0, Math.floor(whole.length / 2))],
    ['damaged', Buffer.concat([whole.subarray(0, 200_000), Buffer.alloc(64, 7), whole.subarray(200_064)])],
    ['of another parcel', Buffer.alloc(100_000, 3)],
    ['longer', Buffer.concat([whole, Buffer.alloc(5_000, 9)])],
  ];
  for (const [name, left] of leftovers) {
    await writeFile(inside(`.${name}.tar.part`), left);
    const again = await pack('uat', '--out', `${name}.tar`);
    expect((await readFile(inside(`${name}.tar`))).equals(whole)).toBe(true);
    expect(again.kept > 0).toBe(name !== 'of another parcel');
    expect(await readdir(folder)).not.toContain(`.${name}.tar.part`);
  }
  let killed = 0;
  for (const line of [3, 12, 25, 40]) {
    const isKilled = await killedAt(line, ['pack', 'uat', '--out', 'killed.tar'], sandbox.world.options);
    killed += isKilled ? 1 : 0;
    expect(isKilled && (await readdir(folder)).includes('killed.tar')).toBe(false);
  }
  expect(killed).toBeGreaterThan(1);
  await pack('uat', '--out', 'killed.tar');
  expect((await readFile(inside('killed.tar'))).equals(whole)).toBe(true);
});

describe('on the other side', () => {
  let other: HodOptions;
  let port: number;
  let closing: () => Promise<void>;

  beforeEach(async () => {
    const registry = await startSandboxRegistry({ port: 0 });
    ({ port } = registry);
    const place = await mkdtemp(join(tmpdir(), 'hod-other-side-'));
    closing = async () => {
      await registry.close();
      await rm(place, { recursive: true });
    };
    const lines = [
      'product: skerry-line',
      `images: { ${components.map((name) => `${name}: { from: nowhere/${name} }`).join(', ')} }`,
      'environments:',
      '  dev:',
      '    follows: [main]',
      '    receives: parcels',
      '    gates: { served: uat, results: [smoke] }',
      `    repository: plant.localhost:${port}/dev/{image}`,
      '    tags: { fixed: ["{version}"], moving: [latest] }',
      `  uat: { after: dev, repository: "plant.localhost:${port}/uat/{image}", tags: { fixed: ["{version}"], moving: [uat] } }`,
    ];
    await writeFile(join(place, 'hod.yaml'), `${lines.join('\n')}\n`);
    other = { cwd: place };
  });
  afterEach(() => closing());

  const trusting = ['--trust-parcel', '--reason', 'brought by the supply boat'];
  const smokeInUat = () =>
    hodJson('record-result', ['record', 'result', 'smoke', '--passed', '--in', 'uat'], sandbox.world.options);
  const refused = (code: ErrorCode, ...args: string[]) => hodFails(code, ['publish', ...args], other);
  const change = async (edit: (text: string) => string): Promise<void> => {
    const config = join(other.cwd, 'hod.yaml');
    await writeFile(config, edit(await readFile(config, 'utf8')));
  };

  test('what happened on the other side opens gates, as the parcel tells; builds do not come in', async () => {
    const { world } = sandbox;
    await world.publish();
    await pack('2.4.0', '--out', 'published.tar');
    await world.promote('uat');
    await pack('uat', '--out', 'untested.tar');
    await hodJson('record-result', ['record', 'result', 'smoke', '--failed', '--in', 'uat'], world.options);
    await pack('uat', '--out', 'failed.tar');
    await smokeInUat();
    await pack('uat', '--out', 'passed.tar');
    await world.product.change('timetable', 'Show the winter sailings');
    await world.product.build();
    await world.publish('--version', '2.5.0');
    await world.promote('uat');
    await smokeInUat();
    await pack('uat', '--out', 'next.tar');
    await hodJson('rollback', ['rollback', 'uat', '--reason', 'the gate stays open'], world.options);
    await pack('2.5.0', '--out', 'withdrawn.tar');

    expect((await refused('parcels-only')).next).toMatch(/publish --parcel/);
    const never = await refused('not-in-previous-environment', '--parcel', inside('published.tar'), ...trusting);
    expect(never.next).toMatch(/^on the other side, run `hod promote uat --version 2\.4\.0` first; then pack/);
    const untested = await refused('result-missing', '--parcel', inside('untested.tar'), ...trusting);
    expect(untested.next).toMatch(/^on the other side, run smoke in uat/);
    const failed = await refused('result-missing', '--parcel', inside('failed.tar'), ...trusting);
    expect(failed.what).toMatch(/a test failed/);
    const dry = await hod(['publish', '--parcel', inside('failed.tar'), '--dry-run', ...trusting], other);
    expect([dry.code, dry.stdout]).toEqual([
      3,
      expect.stringMatching(/unmet +result smoke: una recorded on .* failed in uat/),
    ]);
    await refused('withdrawn', '--parcel', inside('withdrawn.tar'), ...trusting);
    expect(await served('dev')).toEqual(Object.fromEntries(components.map((name) => [name, {}])));

    await change((text) => text.replace('    receives: parcels\n    gates: { served: uat, results: [smoke] }\n', ''));
    await refused('parcels-not-received', '--parcel', inside('passed.tar'), ...trusting);
    await change((text) =>
      text.replace('    follows: [main]\n', '    receives: parcels\n    gates: { results: [smoke], soak: 1h }\n'),
    );
    const wrong = await hodFails('config-invalid', ['config', 'check'], other);
    expect([wrong.why].flat().join('\n')).toMatch(
      /name the environment of the other side[^]*a parcel does not answer this/,
    );
    const frozen =
      'freeze: [{ from: mon 00:00, to: sun 23:59, zone: UTC }, { from: sun 12:00, to: mon 12:00, zone: UTC }]';
    await change((text) => text.replace('results: [smoke], soak: 1h', `served: uat, results: [smoke], ${frozen}`));
    await refused('frozen', '--parcel', inside('passed.tar'), ...trusting);
    const publish = (...args: string[]) => hodJson('publish', ['publish', ...args, ...trusting], other);
    await publish('--parcel', inside('passed.tar'), '--despite-freeze');
    await change((text) => text.replace(`, ${frozen}`, ''));
    // What is there already is asked nothing again.
    await publish('--parcel', inside('untested.tar'));
    expect(await publish('--parcel', inside('next.tar'))).toMatchObject({ version: '2.5.0' });
    await hod(['ledger', 'export', 'all.jsonl'], other);
    const entries = await readFile(join(other.cwd, 'all.jsonl'), 'utf8');
    expect(entries.match(/passed in uat; [^"]*; the parcel says so/g)).toHaveLength(2);
    const proof = await hod(['prove', 'dev'], other);
    expect(proof.stdout).toMatch(/2\.5\.0 in dev: published from a parcel/);
    expect(proof.code).toBe(0);
  });

  test('a run that was killed while it read a parcel has tagged nothing, or all, and the next one ends it', async () => {
    await releaseInUat();
    await smokeInUat();
    await pack('uat', '--out', 'skerry.tar');
    const args = ['publish', '--parcel', inside('skerry.tar'), ...trusting];
    let killed = 0;
    for (const line of [2, 10, 30, 60, 90]) {
      killed += (await killedAt(line, args, other)) ? 1 : 0;
      for (const tags of Object.values(await served('dev'))) {
        expect([0, 2]).toContain(Object.keys(tags).length);
      }
    }
    expect(killed).toBeGreaterThan(2);
    await hodJson('publish', args, other);
    const { timetable } = await sandbox.world.served('uat');
    expect((await served('dev'))['timetable']).toEqual({
      '2.4.0': timetable?.tags['2.4.0'],
      latest: timetable?.tags['2.4.0'],
    });
  });

  const served = async (environment: string) =>
    Object.fromEntries(
      await Promise.all(
        components.map(async (name) => [name, (await readRepository(port, `${environment}/${name}`)).tags] as const),
      ),
    );

  test('a release is published from a parcel with its digests, version and order, and promoted and rolled back', async () => {
    const { world } = sandbox;
    await releaseInUat();
    const page = await readPage('docs/parcels.md');
    await smokeInUat();
    await playLines(shellBlocks(sectionOf(page, 'Pack'))[0] ?? '', world);
    const [unpacking = ''] = shellBlocks(sectionOf(page, 'Out again: the files of a bundle'));
    expect(await playLines(unpacking, world)).toMatch(/deploy\/fare-tables .*[^]*Unpacked .* into fares\n/);
    await cp(inside('skerry.tar'), join(other.cwd, 'skerry.tar'));
    await world.product.change('timetable', 'Show the winter sailings');
    await world.product.build();
    await world.publish('--version', '2.5.0');
    await world.promote('uat');
    await smokeInUat();
    const full = await pack('uat', '--out', 'full.tar');
    const packed = await pack('uat', '--out', 'next.tar', '--since', 'skerry.tar');
    expect(packed.leftOut).toMatchObject({ releases: [expect.stringMatching(/^2\.4\.0/)] });
    // The document that lists them takes some bytes itself.
    expect(full.size - packed.size).toBeGreaterThan((packed.leftOut?.size ?? 0) * 0.9);
    expect(packed.leftOut?.size).toBeGreaterThan(200_000);
    expect(packed.contents).toEqual(full.contents);
    expect((await pack('2.5.0', '--out', 'x.tar', '--since', '2.4.0', '--dry-run')).leftOut).toEqual(packed.leftOut);
    // What is left out of a parcel is known to be there for the next.
    expect((await pack('uat', '--out', 'x.tar', '--since', 'next.tar', '--dry-run')).leftOut?.blobs).toBeGreaterThan(
      packed.leftOut?.blobs ?? 0,
    );
    await world.fails('never-published', 'pack', 'uat', '--out', 'x.tar', '--since', '1.0.0');
    const image = world.repository('uat', 'timetable:2.4.0');
    await pack(image, '--out', 'image.tar');
    await world.fails('parcel-unrecognised', 'pack', 'uat', '--out', 'x.tar', '--since', 'image.tar');
    await world.fails('options-conflict', 'pack', image, '--out', 'x.tar', '--since', '2.4.0');

    const early = ['publish', '--parcel', inside('next.tar'), '--trust-parcel', '--reason', 'too early'];
    const lacking = await hodFails('blob-left-out', early, other);
    expect(lacking.next).toMatch(/publish the parcel of 2\.4\.0 first/);
    await hodFails('blob-left-out', [...early, '--dry-run'], other);
    expect(await served('dev')).toEqual(Object.fromEntries(components.map((name) => [name, {}])));
    const untrusted = await hodFails('parcel-untrusted', ['publish', '--parcel', 'skerry.tar'], other);
    expect(untrusted.next).toContain('--trust-parcel');
    const [publishing = ''] = shellBlocks(sectionOf(page, 'Publish on the other side'));
    const said = await playLines(publishing, { product: { folder: other.cwd }, env: {}, host: () => '' });
    expect(said).toMatch(/Published skerry-line 2\.4\.0 .* to dev/);
    const from = await world.served('uat');
    const own = await served('uat');
    for (const name of components) {
      expect(own[name]).toEqual({ '2.4.0': from[name]?.tags['2.4.0'], uat: from[name]?.tags['2.4.0'] });
      const digest = from[name]?.tags['2.4.0'] ?? '';
      const types = async (at: number, repository: string) =>
        new Set((await new OtherClient(at, repository).referrers(digest)).map(({ artifactType }) => artifactType));
      expect(await types(port, `uat/${name}`)).toEqual(await types(world.ports.uat, `skerry/${name}`));
    }
    const timeline = await hod(['timeline'], other);
    expect(timeline.stdout).toMatch(/published +dev +2\.4\.0 .*despite parcel: brought by the supply boat/);
    const publish = (file: string) => hodJson('publish', ['publish', '--parcel', file, ...trusting], other);
    expect((await publish('skerry.tar')).components.map(({ transfer }) => transfer.bytesSent)).toEqual([0, 0, 0, 0]);
    const next = await publish(inside('next.tar'));
    expect(next).toMatchObject({ version: '2.5.0', commit: world.product.head() });
    // Late, an older parcel is held.
    expect((await publish('skerry.tar')).components.map(({ serves }) => serves)).toEqual(Array(4).fill('2.5.0'));
    await hodJson('promote', ['promote', 'uat'], other);
    await hodJson('rollback', ['rollback', 'uat', '--reason', 'the gate stays open'], other);
    expect((await served('uat'))['timetable']).toMatchObject({ uat: from['timetable']?.tags['2.4.0'] });
    expect((await hod(['prove', 'dev', 'uat'], other)).code).toBe(0);
    await hodFails('options-conflict', ['publish', '--parcel', 'skerry.tar', '--version', '3.0.0', ...trusting], other);
    await hodFails('parcel-unrecognised', ['publish', '--parcel', inside('image.tar'), ...trusting], other);
    const config = join(other.cwd, 'hod.yaml');
    await writeFile(config, (await readFile(config, 'utf8')).replace('skerry-line', 'skerry-cargo'));
    await hodFails('other-product', ['publish', '--parcel', 'skerry.tar', ...trusting], other);
  });

  test('a parcel that was changed is refused at every kind of file, and nothing is tagged', async () => {
    await releaseInUat();
    await smokeInUat();
    await pack('uat', '--out', 'skerry');
    const blobs = await readdir(inside('skerry', 'blobs', 'sha256'));
    const kindOf = async (name: string): Promise<string> => {
      const bytes = await readFile(inside('skerry', 'blobs', 'sha256', name));
      const text = bytes.toString('latin1');
      if (text.startsWith('{"product"') && text.includes('"releases":[')) {
        return 'document';
      }
      if (text.startsWith('{"product"')) {
        return 'record';
      }
      return bytes[0] === 0x1f ? 'layer' : text.startsWith('{"schemaVersion"') ? 'manifest' : 'config or file';
    };
    const kinds = new Map<string, string>();
    for (const name of blobs) {
      const kind = await kindOf(name);
      kinds.set(kind, kinds.get(kind) ?? name);
    }
    expect([...kinds.keys()].sort()).toEqual(['config or file', 'document', 'layer', 'manifest', 'record']);
    const changes: readonly (readonly [string, string, (bytes: Buffer) => Buffer])[] = [
      ...[...kinds].map(([kind, name]) => [kind, join('blobs', 'sha256', name), flipped] as const),
      ['index.json', 'index.json', (bytes) => Buffer.from(bytes.toString().replace('"timetable"', '"time-table"'))],
      ['swapped names', 'index.json', swapped],
      ['oci-layout', 'oci-layout', () => Buffer.from('{"imageLayoutVersion":"9.0.0"}')],
      ['a blob that is gone', join('blobs', 'sha256', kinds.get('layer') ?? ''), () => Buffer.alloc(0)],
    ];
    const config = await readFile(join(other.cwd, 'hod.yaml'), 'utf8');
    for (const [at, [what, name, change]] of changes.entries()) {
      // Nothing is there of what was sent before.
      await writeFile(join(other.cwd, 'hod.yaml'), config.replaceAll('/{image}', `/{image}-${at}`));
      await rm(join(other.cwd, '.hod'), { recursive: true, force: true });
      const changed = join(other.cwd, 'changed');
      await rm(changed, { recursive: true, force: true });
      await mkdir(changed);
      await cp(inside('skerry'), changed, { recursive: true });
      await writeFile(join(changed, name), change(await readFile(join(changed, name))));
      const run = await hod(['publish', '--parcel', 'changed', ...trusting], other);
      expect(`${what} ${run.code ?? ''} ${run.stderr}${run.stdout}`).toMatch(new RegExp(`^${what} [47] `));
      expect(run.stderr).not.toMatch(/ at .*\.js:/);
      for (const component of components) {
        expect((await readRepository(port, `dev/${component}-${at}`)).tags).toEqual({});
      }
    }
  });
});

function flipped(bytes: Buffer): Buffer {
  const changed = Buffer.from(bytes);
  const at = Math.floor(changed.length / 2);
  changed[at] = (changed[at] ?? 0) ^ 1;
  return changed;
}

/** Two images of one parcel under each other's names. */
function swapped(bytes: Buffer): Buffer {
  return Buffer.from(
    bytes
      .toString()
      .replace('"tide-watch"', '"aside"')
      .replace('"boarding-gate"', '"tide-watch"')
      .replace('"aside"', '"boarding-gate"'),
  );
}
