import { chmod, mkdir, readdir, readFile, rm, truncate, writeFile } from 'node:fs/promises';
import { join } from 'node:path';
import Database from 'libsql';
import { startSandboxRegistry } from '../../src/sandbox/registry/router';
import type { ErrorCode } from '../../src/core/errors';
import { Content, types } from './content';
import { host, type Scene } from './scene';
import { hostile, type HostileCase } from './table';

/** Files that are not what they should be: configuration, build outputs, ledgers. */

const simple = (
  name: string,
  attack: HostileCase['attack'],
  run: HostileCase['run'],
  exit: number,
  code?: ErrorCode,
  more: Partial<HostileCase> = {},
): HostileCase => ({ name, attack, run, exit, ...(code === undefined ? {} : { code }), ...more });

const check = ['config', 'check'];
const yaml = (name: string, text: string | Buffer, more: Partial<HostileCase> = {}): HostileCase =>
  simple(name, (scene) => scene.write('hod.yaml', text), check, 2, 'config-invalid', { seconds: 10, ...more });
const added = (name: string, text: string, more: Partial<HostileCase> = {}): HostileCase =>
  simple(name, (scene) => scene.configure(text), check, 2, 'config-invalid', { seconds: 10, ...more });

const bomb = ['a: &a0 [x, x, x, x, x, x, x, x, x, x]']
  .concat(Array.from({ length: 12 }, (_, at) => `b${at}: &a${at + 1} [${Array(10).fill(`*a${at}`).join(', ')}]`))
  .join('\n');

const configuration: HostileCase[] = [
  yaml('a configuration that is empty', ''),
  yaml('a configuration of other bytes', Buffer.from([0xff, 0xfe, 0x00, 0x01, 0x02])),
  yaml('a configuration of two documents', 'product: a\n---\nproduct: b\n'),
  yaml('a configuration with an alias of nothing', 'product: *nothing\n'),
  yaml('a configuration that grows when it is read', bomb),
  yaml('a configuration that holds itself', 'product: &p [*p]\n'),
  yaml('a configuration nested without end', `product: ${'['.repeat(5_000)}`),
  yaml(
    'a configuration with 10,000 keys that nobody knows',
    Array.from({ length: 10_000 }, (_, at) => `key${at}: 1`).join('\n'),
  ),
  yaml('a configuration with a tag of another language', 'product: !!js/function "x"\n'),
  yaml('a configuration with a name that is a program', `product: "$(touch ${'x'.repeat(5)})"\n`),
  added('a configuration with a key twice', 'product: other'),
  added('a configuration with a prototype', '__proto__: { product: x }'),
  added('a configuration with a key of objects', 'constructor: 1'),
  ...['127.0.0.1:99999', '[1:2:3]', 'una@registry.test', 'https://registry.test', '0x7f.1'].map((name) =>
    added(`a registry that is called ${name}`, `registries: { ${JSON.stringify(name)}: {} }`),
  ),
  ...[
    '127.0.0.1:99999/x/{image}',
    '[1:2:3]/x/{image}',
    'registry.test/X/{image}',
    'registry.test/x/{image}:tag',
    '{image}',
  ].map((repository) =>
    simple(
      `a repository that is ${repository}`,
      (scene) => scene.configure(repository, `${host.dev}/dev/{image}`),
      check,
      2,
      'config-invalid',
    ),
  ),
  ...['constructor', 'toString', '__proto__'].map((name) =>
    simple(
      `an environment that is called ${name}, which does not pass for one that is there`,
      () => undefined,
      ['promote', name],
      2,
      'environment-unknown',
    ),
  ),
  simple(
    'an environment that is called constructor, in which nothing ever was',
    (scene) =>
      scene.configure(
        `  constructor: { after: dev, repository: "${host.uat}/c/{image}", tags: { fixed: ["{version}"], moving: [c] } }\n  prod: { after: constructor,`,
        '  prod: { after: uat,',
      ),
    ['promote', 'prod', '--version', '1.0.0'],
    3,
    'not-in-previous-environment',
  ),
  simple(
    'a product that is called constructor',
    (scene) => scene.configure('product: constructor', 'product: skerry-line'),
    ['promote', 'uat'],
    4,
    'ledger-empty',
  ),
  simple(
    'a user without a name or a home',
    (scene) => Object.assign(scene.env, { HOME: '/nonexistent', USER: '', LOGNAME: '' }),
    ['promote', 'uat', '--dry-run'],
    0,
  ),
];

/** Puts a layout in the place of the build output, and asks for the next version of it. */
const built = (
  name: string,
  make: (content: Content) => object | string,
  exit: number,
  code: ErrorCode,
  more: Partial<HostileCase> = {},
): HostileCase =>
  simple(
    name,
    async (scene) => {
      await scene.nextVersion();
      await rm(scene.in('out', 'tide-watch'), { recursive: true });
      const content = new Content();
      const index = make(content);
      await content.write(scene.in('out', 'tide-watch'), index);
    },
    ['publish'],
    exit,
    code,
    more,
  );
const oneOf = (manifest: object): object => ({ schemaVersion: 2, manifests: [manifest] });
const damage =
  (change: (bytes: Buffer) => Buffer, which = types.layer as string): HostileCase['attack'] =>
  async (scene) => {
    await scene.nextVersion();
    const folder = scene.in('out', 'tide-watch', 'blobs', 'sha256');
    for (const name of await readdir(folder)) {
      const bytes = await readFile(join(folder, name));
      const isLayer = bytes[0] === 0x1f;
      if (isLayer === (which === types.layer)) {
        await writeFile(join(folder, name), change(bytes));
      }
    }
  };

const outputs: HostileCase[] = [
  built('a layout without images', () => ({ schemaVersion: 2, manifests: [] }), 4, 'output-ambiguous'),
  built('a layout whose index is a list', () => '[]', 7, 'layout-corrupt'),
  built(
    'a layout whose index says its images twice',
    (content) => `{"schemaVersion":2,"manifests":[],"manifests":[${JSON.stringify(content.image())}]}`,
    7,
    'layout-corrupt',
  ),
  built(
    'a layout with a digest that is a path',
    (content) => oneOf({ ...content.image(), digest: 'sha256:../../../../../../etc/passwd' }),
    7,
    'layout-corrupt',
  ),
  built(
    'a layout with an image that is not there',
    (content) => oneOf({ ...content.image(), digest: `sha256:${'0'.repeat(64)}` }),
    4,
    'blob-missing',
  ),
  built(
    'a layout with an image of another size',
    (content) => oneOf({ ...content.image(), size: 7 }),
    7,
    'layout-corrupt',
  ),
  built(
    'an image with a layer of another size',
    (content) => oneOf(content.image({}, {}, { size: 7 })),
    7,
    'layout-corrupt',
  ),
  built(
    'an image with a layer that is not there',
    (content) => oneOf(content.image({}, {}, { digest: `sha256:${'0'.repeat(64)}` })),
    4,
    'blob-missing',
  ),
  built(
    'an image whose config is a list',
    (content) => oneOf(content.image({ config: content.add(types.config, '[]') })),
    7,
    'image-config-corrupt',
  ),
  built(
    'an image whose config has no processor',
    (content) => oneOf(content.image({ config: content.add(types.config, '{}') })),
    7,
    'image-config-corrupt',
  ),
  built(
    'an index below an index below an index, 60 deep',
    (content) => {
      let below = content.image();
      for (let depth = 0; depth < 60; depth += 1) {
        below = content.index([below]);
      }
      return oneOf(below);
    },
    7,
    'nested-too-deeply',
  ),
  simple(
    'a layer with a bit that turned',
    damage((bytes) => Buffer.concat([bytes.subarray(0, -1), Buffer.from([(bytes.at(-1) ?? 0) ^ 1])])),
    ['publish'],
    7,
    'content-corrupt',
  ),
  simple(
    'a layer that was cut',
    damage((bytes) => bytes.subarray(0, -9)),
    ['publish'],
    7,
    'layout-corrupt',
  ),
  simple(
    'a layer that grew',
    damage((bytes) => Buffer.concat([bytes, bytes])),
    ['publish'],
    7,
    'layout-corrupt',
  ),
  simple(
    'documents that were cut',
    damage((bytes) => bytes.subarray(0, -9), types.manifest),
    ['publish'],
    7,
    'layout-corrupt',
  ),
  ...(
    [
      ['is empty', Buffer.alloc(0), 4, 'output-unrecognised'],
      ['is noise', Buffer.alloc(2048, 'noise'), 4, 'output-unrecognised'],
      ['is all zeros', Buffer.alloc(10_240), 4, 'output-unrecognised'],
      ['was cut', Buffer.from(tarHead('index.json', 5_000)), 7, 'archive-corrupt'],
      ['names what lies outside', tarHead('../../etc/index.json', 0), 7, 'archive-corrupt'],
      ['has a size below nothing', tarHead('index.json', -1), 7, 'archive-corrupt'],
      ['has a size of exabytes', tarHead('index.json', 2 ** 60), 7, 'archive-corrupt'],
    ] satisfies [string, Buffer, number, ErrorCode][]
  ).map(([name, bytes, exit, code]) =>
    simple(
      `an archive that ${name}`,
      async (scene) => {
        await scene.configure('from: out/t.tar', 'from: out/tide-watch');
        await scene.write('out/t.tar', bytes);
      },
      ['publish', '--version', '2.0.0'],
      exit,
      code,
    ),
  ),
  simple(
    'an archive of 101,000 names',
    async (scene) => {
      await scene.configure('from: out/t.tar', 'from: out/tide-watch');
      await scene.write('out/t.tar', Buffer.concat(Array.from({ length: 101_000 }, (_, at) => tarHead(`x${at}`, 0))));
    },
    ['publish', '--version', '2.0.0'],
    7,
    'archive-corrupt',
  ),
];

/** The head of a member of a tar. */
function tarHead(name: string, size: number): Buffer {
  const head = Buffer.alloc(512);
  head.write(name);
  head.write('0000644\0', 100);
  if (size < 0) {
    head.fill(0xff, 124, 136);
  } else if (size >= 8 ** 11) {
    head[124] = 0x80;
    head.writeBigUInt64BE(BigInt(size), 128);
  } else {
    head.write(`${size.toString(8).padStart(11, '0')} `, 124);
  }
  head.write('00000000000 ', 136);
  head.fill(' ', 148, 156);
  head.write('0ustar\u000000', 156);
  head.write(
    `${head
      .reduce((sum, byte) => sum + byte, 0)
      .toString(8)
      .padStart(6, '0')}\0 `,
    148,
  );
  return head;
}

const ledgerFile = (scene: Scene): string => scene.in('.hod', 'ledger.db');
/** Puts a file in the place of the ledger, which must be the same afterwards. */
const foreign = (
  name: string,
  make: (file: string) => unknown,
  exit = 3,
  code: ErrorCode = 'not-our-file',
  run = ['status'],
): HostileCase => {
  let before: Buffer;
  return simple(
    name,
    async (scene) => {
      await scene.forget();
      await mkdir(scene.in('.hod'));
      await make(ledgerFile(scene));
      before = await readFile(ledgerFile(scene));
    },
    run,
    exit,
    code,
    {
      after: async (scene) => {
        expect((await readFile(ledgerFile(scene))).equals(before)).toBe(true);
        expect((await readdir(scene.in('.hod'))).filter((file) => file.startsWith('ledger.db'))).toEqual(['ledger.db']);
      },
    },
  );
};
const sql =
  (...statements: string[]) =>
  (file: string): void => {
    const database = new Database(file);
    statements.forEach((statement) => database.exec(statement));
    database.close();
  };
/** Changes rows of the ledger behind its back. */
const edited = (name: string, statement: string, run: string[], exit: number, code: ErrorCode): HostileCase =>
  simple(name, (scene) => sql(statement, 'PRAGMA wal_checkpoint(TRUNCATE)')(ledgerFile(scene)), run, exit, code);

const lines =
  (change: (all: string[]) => string[]): HostileCase['attack'] =>
  async (scene) => {
    expect((await scene.hod('ledger', 'export', 'entries')).code).toBe(0);
    await scene.forget();
    const all = (await scene.read('entries')).trimEnd().split('\n');
    await scene.write('entries', `${change(all).join('\n')}\n`);
  };
const imported = (name: string, change: (all: string[]) => string[]): HostileCase =>
  simple(name, lines(change), ['ledger', 'import', 'entries'], 7, 'ledger-entry-corrupt');

const ledgers: HostileCase[] = [
  foreign('the database of something else', sql('CREATE TABLE ferries (name)', "INSERT INTO ferries VALUES ('Una')")),
  foreign(
    'the database of something else, with names of ours',
    sql('CREATE TABLE facts (name)', 'CREATE TABLE entries (seq)', "INSERT INTO facts VALUES ('Una')"),
  ),
  foreign('the database of something else, when it is published', sql('CREATE TABLE facts (name)'), 3, 'not-our-file', [
    'publish',
  ]),
  foreign(
    'a database with the mark of something else',
    sql('PRAGMA application_id = 42', 'CREATE TABLE entries (seq)'),
  ),
  foreign('a text', (file) => writeFile(file, 'product: skerry-line\n'.repeat(100)), 7, 'ledger-corrupt'),
  foreign('a few bytes', (file) => writeFile(file, 'x'), 7, 'ledger-corrupt'),
  foreign('noise', (file) => writeFile(file, Buffer.alloc(8192, 7)), 7, 'ledger-corrupt'),
  foreign(
    'the head of a database, and nothing else',
    (file) => writeFile(file, 'SQLite format 3\0'),
    7,
    'ledger-corrupt',
  ),
  simple('a ledger that was cut', (scene) => truncate(ledgerFile(scene), 5000), ['status'], 7, 'ledger-corrupt'),
  simple(
    'a ledger with noise in it',
    async (scene) => {
      const bytes = await readFile(ledgerFile(scene));
      await writeFile(ledgerFile(scene), bytes.fill(0x5a, 4096));
    },
    ['status'],
    7,
    'ledger-corrupt',
  ),
  simple(
    'a ledger that is a folder',
    async (scene) => {
      await scene.forget();
      await mkdir(ledgerFile(scene), { recursive: true });
    },
    ['status'],
    3,
    'not-our-file',
  ),
  edited(
    'a tag that the ledger knows was changed in it',
    "UPDATE facts SET text = replace(text, 'sha256:', 'sha256:0') WHERE 1",
    ['promote', 'uat'],
    7,
    'ledger-facts-corrupt',
  ),
  edited('facts that are no JSON', "UPDATE facts SET text = '{'", ['promote', 'uat'], 7, 'ledger-facts-corrupt'),
  edited('facts that were set back', 'UPDATE facts SET seq = 0', ['promote', 'uat'], 7, 'ledger-facts-corrupt'),
  edited('facts that were removed', 'DELETE FROM facts', ['ledger', 'verify'], 7, 'ledger-facts-corrupt'),
  edited(
    'an entry that was changed',
    "UPDATE entries SET text = replace(text, '1.0.0', '1.0.9')",
    ['ledger', 'verify'],
    7,
    'ledger-entry-corrupt',
  ),
  edited(
    'an entry that has another number',
    'UPDATE entries SET seq = seq + 1',
    ['ledger', 'verify'],
    7,
    'ledger-entry-corrupt',
  ),
  edited('an entry that is no JSON', "UPDATE entries SET text = 'x'", ['ledger', 'verify'], 7, 'ledger-entry-corrupt'),
  edited(
    'the newest entry, as others see it, is no JSON',
    "UPDATE entries SET hash = 'x'",
    ['promote', 'uat'],
    7,
    'ledger-corrupt',
  ),
  imported('a copy without its end', (all) => all.slice(0, -1)),
  imported('a copy without its beginning', (all) => all.slice(1)),
  imported('a copy of which a line was changed', (all) => all.map((line) => line.replace('1.0.0', '1.0.9'))),
  imported('a copy of which a line was said again', (all) => [all[0] ?? '', ...all]),
  imported('a copy of which a line is no JSON', (all) => ['{', ...all]),
  imported('a copy of nothing', () => []),
  imported('a copy whose end says another hash', (all) => [
    ...all.slice(0, -1),
    (all.at(-1) ?? '').replace(/"hash":"./, '"hash":"g'),
  ]),
  simple(
    'a host that only the ledger names is not asked',
    (scene) => scene.configure(host.uat, host.dev),
    ['status'],
    0,
    undefined,
    {
      present: /no longer names/,
      after: ({ network }) => expect(network.connects.filter((each) => each.startsWith(host.dev))).toEqual([]),
    },
  ),
  simple(
    'a ledger that may only be read is read',
    async (scene) => {
      await chmod(ledgerFile(scene), 0o444);
    },
    ['status'],
    0,
  ),
];

hostile('a wrong configuration is told, whatever it is', configuration);
hostile('a build output is believed in nothing', outputs);
hostile('a ledger is ours, and is as it was written', ledgers);

test('the sandbox answers what is no address', async () => {
  const { port, close } = await startSandboxRegistry({ port: 0 });
  for (const path of ['//', '/v2//', '/%', '/v2/%ff/tags/list', '/v2/../../etc/passwd', '/?%']) {
    const { status } = await fetch(`http://127.0.0.1:${port}${path}`);
    expect([path, status]).toEqual([path, expect.any(Number)]);
    expect(status).toBeGreaterThan(399);
  }
  await close();
});
