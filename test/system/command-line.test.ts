import { readdir, readFile } from 'node:fs/promises';
import { dirname, join, resolve } from 'node:path';
import * as z from 'zod';
import { resultSchemas } from '../../src/results';
import { hod, program } from '../support/hod';

const root = resolve(__dirname, '../..');
const run = (...args: string[]) => hod(args, { cwd: root });

/** What is read before a command is known: the program, and whatever it imports at once. */
async function readAtStart(file: string, read = new Map<string, string>()): Promise<Map<string, string>> {
  if (!read.has(file)) {
    const text = await readFile(file, 'utf8');
    read.set(file, text);
    for (const [, path = ''] of text.matchAll(/(?:from|import)"(\.[^"]+)"/g)) {
      await readAtStart(join(dirname(file), path), read);
    }
  }
  return read;
}

test('what a command does not need is not loaded: a command line is read by little more than its parser', async () => {
  const read = await readAtStart(program);
  const size = [...read.values()].reduce((sum, { length }) => sum + length, 0);
  expect(read.size).toBeLessThan(15);
  expect(size).toBeLessThan(110_000);
});

test('--version and --help answer on standard output; every command has a summary and examples', async () => {
  const { version } = z
    .object({ version: z.string() })
    .parse(JSON.parse(await readFile(join(root, 'package.json'), 'utf8')));
  expect(await run('--version')).toEqual({ code: 0, stdout: `${version}\n`, stderr: '' });
  const help = await run('--help');
  expect(help).toMatchObject({ code: 0, stderr: '' });
  for (const command of [
    'config check',
    'config show',
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
