import { availableParallelism } from 'node:os';
import { Command, InvalidArgumentError, Option } from '@commander-js/extra-typings';

/** How a command answers. */
export interface OutputOptions {
  json?: true | undefined;
  color: boolean;
  /** Neither progress nor logs. */
  quiet?: true | undefined;
  /** Log every request. */
  verbose?: true | undefined;
}

/** A command with the options that every command has. `examples`: command lines, and what each does. */
export function command(name: string, summary: string, examples: readonly (readonly [string, string])[]) {
  const width = Math.max(...examples.map(([line]) => line.length));
  const text = examples.map(([line, meaning]) => `  ${line.padEnd(width)}  # ${meaning}`).join('\n');
  return new Command(name)
    .description(summary)
    .helpOption('-h, --help', 'print help')
    .option('--json', 'answer with one JSON document; its schema is in docs/schemas')
    .option('--no-color', 'no colour (as with the environment variable NO_COLOR)')
    .addHelpText('after', examples.length === 0 ? '' : `\nExamples:\n${text}`);
}

/** `--config`. */
export function configOption() {
  return new Option('-c, --config <file>', 'the configuration (default: hod.yaml in this folder)');
}

/** `--jobs`. */
export function jobsOption() {
  return new Option('--jobs <n>', 'how many transfers run at once')
    .argParser(parseCount)
    .default(Math.max(4, availableParallelism()));
}

/** `--quiet`. */
export function quietOption() {
  return new Option('--quiet', 'no progress');
}

/** `--verbose`. */
export function verboseOption() {
  return new Option('--verbose', 'log every request to standard error');
}

/** `--dry-run`. */
export function dryRunOption() {
  return new Option('--dry-run', 'read and check everything, write nothing, and say what would be done');
}

/** `--actor`. */
export function actorOption() {
  return new Option('--actor <name>', 'who does this, for the ledger (default: this user)');
}

/** `--commit`, of a build. */
export function commitOption() {
  return new Option('--commit <id>', 'the commit that was built (default: what is checked out)');
}

/** `--strict-order`. */
export function strictOrderOption() {
  return new Option(
    '--strict-order',
    'end with exit 3, and change nothing, where something newer would hold a tag back',
  );
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
  const [, count, unit] = /^(\d{1,6})(s|m|h)$/.exec(text) ?? [];
  if (count === undefined) {
    throw new InvalidArgumentError('It must be a number of seconds, minutes or hours: 90s, 10m, 1h.');
  }
  return Number(count) * (unit === 's' ? 1000 : unit === 'm' ? 60_000 : 3_600_000);
}

/** Reads a whole number above zero. */
export function parseCount(text: string): number {
  if (!/^[1-9]\d{0,3}$/.test(text)) {
    throw new InvalidArgumentError('It must be a whole number above zero.');
  }
  return Number(text);
}
