// Writes docs/commands: a page for each command, from what the program itself says of it. `--check`: only says whether they are so.
import { mkdir, readFile, readdir, rm, writeFile } from 'node:fs/promises';
import { pathToFileURL } from 'node:url';
import { build } from 'esbuild';
import { format, resolveConfig } from 'prettier';

const root = new URL('..', import.meta.url).pathname;

/** The program, without running it. */
async function theProgram() {
  const outfile = `${root}dist/command-pages.cjs`;
  await build({
    stdin: { contents: "export { buildProgram } from './src/cli/program';", resolveDir: root },
    outfile,
    bundle: true,
    format: 'cjs',
    platform: 'node',
    external: ['libsql', 'pg-native'],
    alias: { '@commander-js/extra-typings': 'commander' },
    logLevel: 'error',
  });
  const { buildProgram } = (await import(pathToFileURL(outfile))).default;
  await rm(outfile);
  return buildProgram('');
}

/** What stands in a cell of a table. */
const cell = (text) => text.replaceAll('|', '\\|').replaceAll('<', '&lt;').replaceAll('*', '\\*');

function tableOf(title, head, rows) {
  return rows.length === 0
    ? []
    : ['', `| ${head} | meaning |`, '| --- | --- |', ...rows.map(([name, text]) => `| \`${name}\` | ${cell(text)} |`)];
}

/** The lines about a command: `words` is how it is called. */
function linesOf(command, words, level) {
  const help = command.createHelp();
  const own = command.commands.filter((each) => each.name() !== 'help');
  const lines = [`${'#'.repeat(level)} ${words}`, '', `${sentence(command.description())}`];
  if (own.length > 0) {
    return [...lines, ...own.flatMap((each) => ['', ...linesOf(each, `${words} ${each.name()}`, level + 1)])];
  }
  const usage = `${words} ${command.usage()}`.trim();
  const examples = examplesOf(command);
  return [
    ...lines,
    '',
    '```text',
    usage,
    '```',
    ...tableOf(
      'arguments',
      'argument',
      help.visibleArguments(command).map((each) => [each.name(), each.description]),
    ),
    ...tableOf(
      'options',
      'option',
      help.visibleOptions(command).map((each) => [each.flags, each.description]),
    ),
    ...(examples.length === 0 ? [] : ['', '```sh', ...examples, '```']),
  ];
}

/** The examples that a command shows under its help. */
function examplesOf(command) {
  let text = '';
  command.configureOutput({ writeOut: (more) => (text += more) });
  command.outputHelp();
  const [, examples = ''] = text.split('\nExamples:\n');
  return examples.split('\n').flatMap((line) => (line.trim() === '' ? [] : [line.trim()]));
}

function sentence(text) {
  return `${text.charAt(0).toUpperCase()}${text.slice(1)}.`;
}

/** Every page, by its path in docs. */
async function pages() {
  const program = await theProgram();
  const commands = program.commands.filter((each) => each.name() !== 'help' && each._hidden !== true);
  const index = commands.map(
    (each) => `| [${each.name()}](commands/${each.name()}.md) | ${cell(each.description())} |`,
  );
  const texts = [
    [
      'commands.md',
      [
        '# Commands',
        '',
        'In the order of a release engineer’s day. Each page is made from what the program says of itself: `hod COMMAND --help`.',
        '',
        '| command | does |',
        '| --- | --- |',
        ...index,
        '',
        'Exit codes are the same for all: [exit codes](exit-codes.md). The documents of `--json` have [schemas](schemas).',
      ],
    ],
    ...commands.map((each) => [`commands/${each.name()}.md`, linesOf(each, `hod ${each.name()}`, 1)]),
  ];
  const style = await resolveConfig(`${root}docs/commands.md`);
  return Promise.all(
    texts.map(async ([path, lines]) => [path, await format(`${lines.join('\n')}\n`, { ...style, parser: 'markdown' })]),
  );
}

const made = await pages();
if (process.argv.includes('--check')) {
  const stale = [];
  for (const [path, text] of made) {
    if ((await readFile(`${root}docs/${path}`, 'utf8').catch(() => '')) !== text) {
      stale.push(path);
    }
  }
  const names = new Set(made.map(([path]) => path));
  const gone = (await readdir(`${root}docs/commands`)).filter((name) => !names.has(`commands/${name}`));
  if (stale.length + gone.length > 0) {
    console.error(`Not as the program says: ${[...stale, ...gone].join(', ')}. \`npm run commands\` writes them anew.`);
    process.exitCode = 1;
  }
} else {
  await rm(`${root}docs/commands`, { recursive: true, force: true });
  await mkdir(`${root}docs/commands`, { recursive: true });
  for (const [path, text] of made) {
    await writeFile(`${root}docs/${path}`, text);
  }
}
