import { CommanderError } from '@commander-js/extra-typings';
import { exitCodes, HodError } from '../core/errors';
import { buildProgram } from './program';
import { reportError } from './report';
import { outliveReaders } from './streams';
import { throwUsageErrors } from './usage';

declare const HOD_VERSION: string;

/** Runs one command line. Answers the exit code. */
async function main(argv: readonly string[]): Promise<number> {
  const program = buildProgram(HOD_VERSION);
  throwUsageErrors(program);
  if (argv.length === 2) {
    // Who types the name alone asks what there is; a script that does has lost its arguments.
    program.outputHelp();
    return exitCodes.usage;
  }
  try {
    await program.parseAsync(argv);
    return 0;
  } catch (error) {
    // Help and the version were asked for, and printed.
    return error instanceof CommanderError ? 0 : reportError(error, argv);
  }
}

outliveReaders();
for (const signal of ['SIGINT', 'SIGTERM'] as const) {
  process.on(signal, () => {
    // The sandbox ends by itself, and so does the demo; everything else can simply be run again.
    if (process.listenerCount(signal) === 1) {
      const interrupted = new HodError('interrupted', {
        what: 'interrupted',
        object: 'this run',
        why: `the signal ${signal} came`,
        next: 'run the command again: it goes on from here',
      });
      void reportError(interrupted, process.argv).then((code) => process.exit(code));
    }
  });
}
void main(process.argv).then((code) => {
  if (code !== 0) {
    process.exitCode = code;
  }
});
