import { availableParallelism } from 'node:os';
import { Command, InvalidArgumentError, Option, type CommandUnknownOpts } from '@commander-js/extra-typings';
import { millisecondsOf } from '../core/amounts';

/** How a command answers. */
export interface OutputOptions {
  json?: true | undefined;
  /** A path into the document: its value, and nothing else, is the answer. */
  field?: string | undefined;
  color: boolean;
  /** Neither progress nor logs. */
  quiet?: true | undefined;
  /** Log every request, and show everything. */
  verbose?: true | undefined;
}

/** A command line, and what it does. */
export type Example = readonly [line: string, meaning: string];

/** A command that answers with a document, and has the options that all of those have. */
export function command(name: string, summary: string, examples: readonly [Example, Example, ...Example[]]) {
  return tellingCommand(name, summary, examples)
    .option('--json', 'print one JSON document; docs/schemas has its schema')
    .option(
      '--field <path>',
      'print one field of that document, such as components.timetable.digest or platforms[0].size',
    );
}

/** A command that only tells people what it does. */
export function tellingCommand(name: string, summary: string, examples: readonly [Example, Example, ...Example[]]) {
  const width = Math.max(...examples.map(([line]) => line.length));
  const text = examples.map(([line, meaning]) => `  ${line.padEnd(width)}  # ${meaning}`).join('\n');
  return inOurWords(new Command(name))
    .description(summary)
    .option('--no-color', 'print without colour (as with the environment variable NO_COLOR)')
    .addHelpText('after', `\nExamples:\n${text}`);
}

/** A command that only holds others. */
export function group(name: string, summary: string) {
  return inOurWords(new Command(name)).description(summary).helpCommand(false);
}

/** Help with the descriptions as they stand: defaults and choices are part of them. */
export function inOurWords<T extends CommandUnknownOpts>(made: T): T {
  made.helpOption('-h, --help', 'print help').configureHelp({
    subcommandTerm: (each) => [each.name(), each.usage().replace(/\[(options|command)\] ?/g, '')].join(' '),
    optionDescription: ({ description }) => description,
    argumentDescription: ({ description }) => description,
  });
  return made;
}

/** `--config`. */
export function configOption() {
  return new Option('-c, --config <file>', 'read this configuration (default: hod.yaml in this folder)');
}

/** `--config`, of a command that takes several products. */
export function configsOption() {
  return new Option(
    '-c, --config <file>',
    "read this configuration, or all that a pattern matches: 'services/*/hod.yaml' (default: hod.yaml in this folder)",
  );
}

/** `--together`, of a command that writes for several products. */
export function togetherOption() {
  return new Option('--together', 'with several products: record all of them in one step, or none');
}

const usualJobs = Math.max(4, availableParallelism());

/** `--jobs`, of a command that moves blobs. */
export function jobsOption() {
  return new Option(
    '--jobs <n>',
    'move up to this many blobs at once, and send up to four times as many small requests (default: one for each processor, 4 at least)',
  )
    .argParser(parseCount)
    .default(usualJobs);
}

/** `--jobs`, of a command that moves none. */
export function requestsOption() {
  return new Option(
    '--jobs <n>',
    'send up to four times this many requests at once (default: one for each processor, 4 at least)',
  )
    .argParser(parseCount)
    .default(usualJobs);
}

/** `--quiet`. */
export function quietOption() {
  return new Option('--quiet', 'show no progress');
}

/** `--verbose`. */
export function verboseOption() {
  return new Option('--verbose', 'log every request to standard error');
}

/** `--verbose`, of a command that reads what a build is. */
export function verboseBuildOption() {
  return new Option(
    '--verbose',
    'log every request, and where commit, branch and version came from; show what did not change too',
  );
}

/** `--verbose`, of a command that answers with what changed. */
export function verboseChangesOption() {
  return new Option('--verbose', 'log every request; show what did not change too');
}

/** `--dry-run`. */
export function dryRunOption() {
  return new Option('--dry-run', 'do all reads and checks, write nothing, and show what would happen');
}

/** `--only`. */
export function onlyOption(verb: string) {
  return new Option('--only <component...>', `${verb} these components alone, as if they were named as arguments`);
}

/** `--actor`. */
export function actorOption() {
  return new Option(
    '--actor <name>',
    'record this name in the ledger (default: the identity of the job, the user of the CI, or this user)',
  );
}

/** `--commit`, of a build. */
export function commitOption() {
  return new Option('--commit <id>', 'the commit that was built (default: the checkout)');
}

/** `--strict-order`. */
export function strictOrderOption() {
  return new Option('--strict-order', 'exit with 3 and change nothing if a newer release would hold a tag');
}

/** `--reason`. */
export function reasonOption(text: string) {
  return new Option('--reason <text>', text);
}

/** `--new-way-in`. */
export function newWayInOption() {
  return new Option(
    '--new-way-in',
    'accept another source environment, other repositories or other rules than before; needs --reason',
  );
}

/** `--after-rewrite`. */
export function afterRewriteOption() {
  return new Option(
    '--after-rewrite',
    'the branch was rewritten: treat this build as newer than the old commits; needs --reason',
  );
}

/** `--again`. */
export function againOption() {
  return new Option('--again', 'allow a withdrawn release to return; needs --reason');
}

/** `--summary`. */
export function summaryOption() {
  return new Option('--summary <file>', 'append a Markdown table of what was done, and how to pull it by digest');
}

/** `--outputs`. */
export function outputsOption() {
  return new Option('--outputs <file>', 'append KEY=value lines for the steps that follow');
}

/** Reads a time such as `90s`, `10m` or `1h`, as milliseconds. */
export function parseDuration(text: string): number {
  if (!/^\d{1,6}[smh]$/.test(text)) {
    throw new InvalidArgumentError('it must be a number of seconds, minutes or hours: 90s, 10m, 1h');
  }
  return millisecondsOf(text);
}

/** Reads an age of a day or more, as milliseconds. */
export function parseAge(text: string): number {
  if (!/^[1-9]\d{0,3}[dwy]$/.test(text)) {
    throw new InvalidArgumentError('it must be a number of days, weeks or years: 90d, 12w, 2y');
  }
  return millisecondsOf(text);
}

/** Reads a whole number above zero. */
export function parseCount(text: string): number {
  if (!/^[1-9]\d{0,3}$/.test(text)) {
    throw new InvalidArgumentError('it must be a whole number from 1 to 9999');
  }
  return Number(text);
}
