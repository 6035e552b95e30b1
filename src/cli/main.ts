import { CommanderError } from '@commander-js/extra-typings';
import { HodError, exitCodes } from '../core/errors';
import { buildProgram } from './program';
import { throwUsageErrors } from './usage';

declare const HOD_VERSION: string;

/** Runs one command line. Answers the exit code. */
async function main(argv: readonly string[]): Promise<number> {
  const program = buildProgram(HOD_VERSION);
  throwUsageErrors(program);
  try {
    await program.parseAsync(argv);
    return 0;
  } catch (error) {
    // Help and the version were asked for, and printed.
    return error instanceof CommanderError ? 0 : reportError(error, argv);
  }
}

async function reportError(thrown: unknown, argv: readonly string[]): Promise<number> {
  const { defectOf, errorView } = await import('./views/error');
  const { styleFor } = await import('./views/style');
  const { toErrorResult } = await import('../results/error');
  const { withoutSecrets } = await import('./known-secrets');
  const error = withoutSecrets(thrown instanceof HodError ? thrown : defectOf(thrown));
  if (argv.includes('--json')) {
    process.stdout.write(`${JSON.stringify(toErrorResult(error))}\n`);
  }
  process.stderr.write(`${errorView(error, styleFor(process.stderr, !argv.includes('--no-color')))}\n`);
  return error.exitCode;
}

process.stdout.on('error', (error: NodeJS.ErrnoException) => {
  // A reader such as `head` has seen enough.
  process.exit(error.code === 'EPIPE' ? 0 : exitCodes.unavailable);
});
process.on('SIGINT', () => {
  // The sandbox ends by itself, and so does the demo; everything else can simply be run again.
  if (process.listenerCount('SIGINT') === 1) {
    const interrupted = new HodError('interrupted', {
      what: 'interrupted',
      object: 'this run',
      why: 'the signal SIGINT came',
      next: 'run the command again: it goes on from here',
    });
    void reportError(interrupted, process.argv).then((code) => process.exit(code));
  }
});
const code = await main(process.argv);
if (code !== 0) {
  process.exitCode = code;
}
