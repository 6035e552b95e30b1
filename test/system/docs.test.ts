import { execFile } from 'node:child_process';
import { readdir, readFile, writeFile } from 'node:fs/promises';
import { join, resolve } from 'node:path';
import { promisify } from 'node:util';
import type { CommandUnknownOpts } from '@commander-js/extra-typings';
import { buildProgram } from '../../src/cli/program';
import { playLines, readPage, shellBlocks } from '../support/play-page';
import { sandboxWorld } from '../support/world';

const root = resolve(__dirname, '../..');
const run = promisify(execFile);

/** The words of a command, as a shell takes its line apart, up to where it leads its output; what a shell would put in stands as it is. */
function wordsOf(line: string): string[] {
  const text = line.replace(/(^|\s)#.*$/, '');
  const words = [...text.matchAll(/'([^']*)'|"([^"]*)"|(\S+)/g)];
  const end = words.findIndex(([whole]) => ['<', '>', '>>', '|', '&&'].includes(whole));
  return words.slice(0, end === -1 ? undefined : end).map(([, one, two, bare]) => one ?? two ?? bare ?? '');
}

/** Replaces what commands do by nothing, and their errors by exceptions. */
function disarmed<T extends CommandUnknownOpts>(command: T): T {
  command.exitOverride().configureOutput({ writeOut: () => undefined, writeErr: () => undefined });
  command.commands.forEach((each) => disarmed(each));
  if (command.commands.length === 0) {
    command.action(() => undefined);
  }
  return command;
}

test('every line in the docs that calls Hod is one that Hod takes', async () => {
  const folders = ['', 'docs', 'docs/commands'];
  const pages = (
    await Promise.all(
      folders.map(async (folder) =>
        (await readdir(join(root, folder))).filter((name) => name.endsWith('.md')).map((name) => join(folder, name)),
      ),
    )
  ).flat();
  const refused: string[] = [];
  let count = 0;
  for (const page of pages) {
    const lines = shellBlocks(await readFile(join(root, page), 'utf8')).flatMap((block) => block.split('\n'));
    for (const line of lines.filter((each) => /^hod /.test(each))) {
      count += 1;
      try {
        await disarmed(buildProgram('0')).parseAsync(wordsOf(line).slice(1), { from: 'user' });
      } catch (error) {
        refused.push(`${page}: ${line}: ${error instanceof Error ? error.message : String(error)}`);
      }
    }
  }
  expect(refused).toEqual([]);
  expect(count).toBeGreaterThan(150);
});

/** A JSON Schema, as far as a path into its documents goes. */
interface Schema {
  readonly properties?: Readonly<Record<string, Schema>>;
  readonly items?: Schema;
  readonly anyOf?: readonly Schema[];
}

/** Whether a path of `--field` leads to something in the documents of a schema; a name after a list may be that of an element. */
function leadsSomewhere(schema: Schema, [segment, ...rest]: readonly string[]): boolean {
  if (schema.anyOf !== undefined) {
    return schema.anyOf.some((each) => leadsSomewhere(each, segment === undefined ? [] : [segment, ...rest]));
  }
  if (segment === undefined) {
    return true;
  }
  if (schema.items !== undefined) {
    const byName = rest.length > 0 && leadsSomewhere(schema.items, rest);
    return byName || leadsSomewhere(schema.items, [segment, ...rest]);
  }
  const found = schema.properties?.[segment];
  return found !== undefined && leadsSomewhere(found, rest);
}

test('the examples of --field lead to something in the document of their command', async () => {
  const documents: Readonly<Record<string, string>> = {
    'record-sign-off': 'sign-off',
    'ledger-export': 'ledger-copy',
    'ledger-import': 'ledger-copy',
    'access-list': 'stored-logins',
    'access-store': 'stored-logins',
    'access-forget': 'stored-logins',
  };
  const names = (await readdir(join(root, 'docs/commands'))).filter((name) => name.endsWith('.md'));
  const pages = await Promise.all(names.map((name) => readFile(join(root, 'docs/commands', name), 'utf8')));
  const lines = pages.flatMap((page) => shellBlocks(page).flatMap((block) => block.split('\n')));
  const examples = lines.filter((line) => line.startsWith('hod ') && line.includes(' --field '));
  const astray: string[] = [];
  for (const line of examples) {
    const words = wordsOf(line).slice(1);
    const [first = '', second = ''] = words;
    const name = ['access', 'config', 'ledger', 'record'].includes(first) ? `${first}-${second}` : first;
    const file = join(root, 'docs/schemas', `${documents[name] ?? name}.json`);
    const schema = JSON.parse(await readFile(file, 'utf8')) as Schema;
    const path = (words[words.indexOf('--field') + 1] ?? '').replace(/\[\d+\]/g, '').split('.');
    if (!leadsSomewhere(schema, path)) {
      astray.push(line);
    }
  }
  expect(astray).toEqual([]);
  // Every command that answers with a document has one.
  const commands = pages.flatMap((page) => page.match(/--field <path>/g) ?? []);
  expect(examples.length).toBeGreaterThanOrEqual(commands.length);
});

test('every command that an error names is one that Hod takes', async () => {
  const page = await readFile(join(root, 'docs/errors.md'), 'utf8');
  const next = page.split('\n').filter((line) => line.startsWith('  next '));
  const commands = next.flatMap((line) => [...line.matchAll(/`(hod [^`]+)`/g)].map(([, command = '']) => command));
  const named = [...new Set(commands)].filter((command) => !command.endsWith(' --help'));
  const refused: string[] = [];
  for (const line of named) {
    try {
      await disarmed(buildProgram('0')).parseAsync(wordsOf(line).slice(1), { from: 'user' });
    } catch (error) {
      refused.push(`${line}: ${error instanceof Error ? error.message : String(error)}`);
    }
  }
  expect(refused).toEqual([]);
  expect(named.length).toBeGreaterThan(30);
});

test('the pages and tables that are made from the program are up to date', async () => {
  await run(process.execPath, ['scripts/command-pages.mjs', '--check'], { cwd: root });
  await run(process.execPath, ['scripts/ci-table.mjs', '--check'], { cwd: root });
  await run(process.execPath, ['scripts/limits.mjs', '--check'], { cwd: root });
});

test('the guide is played, line by line, as it stands', async () => {
  const { world, close } = await sandboxWorld();
  try {
    const guide = await readPage('docs/guide.md');
    const [before = '', after = ''] = guide.split('<!-- A newer release comes here');
    await world.configure('after: uat\n', 'after: uat\n    gates: { results: [smoke], sign-offs: 1 }\n');
    await writeFile(join(world.product.folder, 'deploy.yaml'), `image: ${world.repository('prod', 'timetable')}:old\n`);
    const play = (page: string): Promise<string> => playLines(shellBlocks(page).join(''), world);
    const said = await play(before);
    expect(said).toMatch(/== publish\nPublished .*2\.4\.0/);
    expect(said).toMatch(/== publish\nNothing to do/);
    expect(said).toMatch(/== promote prod\nPromoted .*2\.4\.0/);
    expect(said).toMatch(/== point prod deploy\.yaml\nPointed 1 reference/);
    expect(said).toMatch(/== prove prod\nProved: prod/);
    // The newer release, and that it was tested.
    await world.product.change('timetable', 'Show the winter sailings');
    await world.product.build();
    await world.publish('--next', 'minor');
    await world.promote('uat');
    await world.hod('record', 'result', 'smoke', '--passed', '--in', 'uat');
    await world.hod('record', 'sign-off', '--for', 'prod', '--actor', 'siv');
    await world.promote('prod');
    expect(await play(after)).toMatch(
      /== rollback prod .*\nRolled prod back to 2\.4\.0[^]*== status prod\n[^]*2\.4\.0/,
    );
  } finally {
    await close();
  }
});

test('the words are shown by the lines that stand below them', async () => {
  const { world, close } = await sandboxWorld();
  try {
    await world.publish();
    await world.promote('uat');
    const page = await readPage('docs/words.md');
    const told = await playLines(shellBlocks(page).join(''), world);
    expect(told.split('\n').filter((line) => line.startsWith('== '))).toHaveLength(shellBlocks(page).length);
    expect(told).toMatch(/@sha256:[0-9a-f]{64}$/m);
    for (const word of [
      'tag',
      'digest',
      'manifest',
      'index',
      'platform',
      'layer',
      'registry',
      'repository',
      'referrer',
    ]) {
      expect(page.toLowerCase()).toContain(`\n## ${word}\n`);
    }
  } finally {
    await close();
  }
});
