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

/** Reads a whole number above zero. */
export function parseCount(text: string): number {
  if (!/^[1-9]\d{0,3}$/.test(text)) {
    throw new InvalidArgumentError('It must be a whole number above zero.');
  }
  return Number(text);
}
