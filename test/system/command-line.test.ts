import { execFile } from 'node:child_process';
import { cp, mkdtemp, readdir, readFile, rm, writeFile } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { basename, dirname, join, resolve } from 'node:path';
import { promisify } from 'node:util';
import * as z from 'zod';
import { resultSchemas } from '../../src/results';
import { hod, program } from '../support/hod';

const root = resolve(__dirname, '../..');
const run = (...args: string[]) => hod(args, { cwd: root });

test('what a command does not need is not loaded: a command line is read without network or cryptography', async () => {
  const folder = await mkdtemp(join(tmpdir(), 'hod-parts-'));
  const file = join(folder, 'parts');
  const preload = `--require ${resolve(__dirname, '../support/parts-of-node.cjs')}`;
  const run = await hod(['--help'], { cwd: root, env: { NODE_OPTIONS: preload, HOD_PARTS_FILE: file } });
  expect(run.code).toBe(0);
  const parts = (await readFile(file, 'utf8')).split('\n');
  expect(parts).toContain('NativeModule vm');
  for (const part of ['http', 'tls', 'crypto', 'dns', 'zlib', 'worker_threads']) {
    expect(parts).not.toContain(`NativeModule ${part}`);
  }
  await rm(folder, { recursive: true });
});

test('a start takes the code that the build compiled; without it, or where it is spoilt, it is slower and no otherwise', async () => {
  const folder = dirname(program);
  const names = await readdir(folder);
  const [source = '', code = ''] = ['.js', '.code'].map((end) =>
    join(folder, names.find((name) => name.startsWith('program-') && name.endsWith(end)) ?? ''),
  );
  const load = `new (require('node:vm').Script)(fs.readFileSync('${source}', 'latin1'), { cachedData: fs.readFileSync('${code}') })`;
  const { stdout } = await promisify(execFile)(process.execPath, [
    '--liftoff-only',
    '--print',
    `${load}.cachedDataRejected`,
  ]);
  expect(stdout).toBe('false\n');

  const copy = await mkdtemp(join(tmpdir(), 'hod-dist-'));
  await cp(folder, copy, { recursive: true });
  const start = () => promisify(execFile)(process.execPath, [join(copy, basename(program)), '--help']);
  const { stdout: help } = await start();
  await writeFile(join(copy, basename(code)), (await readFile(code)).subarray(0, 1000));
  expect(await start()).toEqual({ stdout: help, stderr: '' });
  await rm(join(copy, basename(code)));
  expect(await start()).toEqual({ stdout: help, stderr: '' });
  await rm(join(copy, basename(source)));
  await expect(start()).rejects.toMatchObject({
    code: 6,
    stderr: expect.stringMatching(/^hod: the program cannot be read\n  object .*\n  why .*\n  next .*\n$/),
  });
  await rm(copy, { recursive: true });
});

test('--version and --help answer on standard output; every command has a summary and examples', async () => {
  const { version } = z
    .object({ version: z.string() })
    .parse(JSON.parse(await readFile(join(root, 'package.json'), 'utf8')));
  const about = await run('--version');
  expect(about).toMatchObject({ code: 0, stderr: '' });
  expect(about.stdout).toMatch(new RegExp(`^${version}( \\(commit [0-9a-f]{12}(, with changes)?\\))?\n$`));
  const help = await run('--help');
  expect(help).toMatchObject({ code: 0, stderr: '' });
  // The name alone asks what there is; a script that lost its arguments is told by the exit code.
  expect(await run()).toEqual({ ...help, code: 2 });
  for (const command of [
    'init',
    'config check',
    'config show',
    'config schema',
    'access check',
    'access store',
    'access forget',
    'access list',
    'touched',
    'stage',
    'publish',
    'assemble',
    'record result',
    'record sign-off',
    'promote',
    'rollback',
    'status',
    'show',
    'inside',
    'tags',
    'repositories',
    'ledger verify',
    'ledger export',
    'ledger import',
    'sandbox',
    'demo',
  ]) {
    expect(help.stdout).toContain(`\n  ${command.split(' ')[0] ?? ''} `);
    const own = await run(...command.split(' '), '--help');
    expect(own).toMatchObject({ code: 0, stderr: '' });
    expect(own.stdout).toMatch(/Examples:\n {2}hod /);
    // Without a terminal there is no colour and no cursor movement.
    expect(own.stdout).not.toContain('\u001b');
  }
});

test('the schema of hod.yaml holds what the sample has', async () => {
  const schema = z
    .object({ properties: z.record(z.string(), z.unknown()), required: z.array(z.string()) })
    .parse(JSON.parse((await run('config', 'schema')).stdout));
  expect(Object.keys(schema.properties)).toEqual(
    expect.arrayContaining(['product', 'images', 'environments', 'extends']),
  );
  expect(schema.required).toContain('product');
});

test('docs/schemas holds the schema of every document that --json answers with', async () => {
  const folder = join(root, 'docs', 'schemas');
  expect((await readdir(folder)).sort()).toEqual(
    Object.keys(resultSchemas)
      .map((name) => `${name}.json`)
      .sort(),
  );
  for (const [name, schema] of Object.entries(resultSchemas)) {
    const written: unknown = JSON.parse(await readFile(join(folder, `${name}.json`), 'utf8'));
    expect(written).toEqual(JSON.parse(JSON.stringify(z.toJSONSchema(schema))));
  }
});
