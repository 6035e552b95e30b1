import { CommanderError, type CommandUnknownOpts } from '@commander-js/extra-typings';
import { redact } from '../core/access/secrets';
import { HodError, exitCodes } from '../core/errors';
import { buildProgram } from './program';

declare const HOD_VERSION: string;

/** Runs one command line. Answers the exit code. */
async function main(argv: readonly string[]): Promise<number> {
  const program = buildProgram(HOD_VERSION);
  throwInsteadOfExit(program);
  try {
    await program.parseAsync(argv);
    return 0;
  } catch (error) {
    if (error instanceof CommanderError && error.exitCode === 0) {
      return 0;
    }
    return reportError(error instanceof CommanderError ? usageError(error) : error, argv);
  }
}

function throwInsteadOfExit(command: CommandUnknownOpts): void {
  command.exitOverride().configureOutput({ writeErr: () => undefined });
  command.commands.forEach(throwInsteadOfExit);
}

function usageError(error: CommanderError): HodError {
  // Without a command, help was asked for in so many words.
  const what = error.code === 'commander.help' ? 'no command was given' : error.message.replace(/^error: /, '');
  const [first = what, ...others] = what.split('\n');
  return new HodError('usage', {
    what: first.replace(/\.$/, ''),
    ...(others.length === 0 ? {} : { why: others.join('\n').replace(/\(Did you mean (.*)\?\)/, 'the nearest is $1') }),
    next: '`hod --help` lists the commands, `hod COMMAND --help` the options of one',
  });
}

async function reportError(thrown: unknown, argv: readonly string[]): Promise<number> {
  const { defectOf, errorDocument, errorView } = await import('./views/error');
  const { styleFor } = await import('./views/style');
  const error = thrown instanceof HodError ? thrown : defectOf(thrown);
  if (argv.includes('--json')) {
    process.stdout.write(`${redact(JSON.stringify(errorDocument(error)))}\n`);
  }
  process.stderr.write(`${redact(errorView(error, styleFor(process.stderr, !argv.includes('--no-color'))))}\n`);
  return error.exitCode;
}

process.stdout.on('error', (error: NodeJS.ErrnoException) => {
  // A reader such as `head` has seen enough.
  process.exit(error.code === 'EPIPE' ? 0 : exitCodes.unavailable);
});
process.on('SIGINT', () => {
  // The sandbox ends by itself, and so does the demo; everything else can simply be run again.
  if (process.listenerCount('SIGINT') === 1) {
    process.stderr.write('hod: interrupted; run the command again to go on from here\n');
    process.exit(exitCodes.interrupted);
  }
});
const code = await main(process.argv);
if (code !== 0) {
  process.exitCode = code;
}
