import { CommanderError } from '@commander-js/extra-typings';
import { HodError } from '../core/errors';
import { buildProgram } from './program';
import { outliveReaders, printDocument, tell } from './streams';
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

/** An error as users meet it. What nobody foresaw takes more to tell than most command lines need. */
async function asHodError(thrown: unknown): Promise<HodError> {
  return thrown instanceof HodError ? thrown : (await import('./unforeseen')).unforeseen(thrown);
}

async function reportError(thrown: unknown, argv: readonly string[]): Promise<number> {
  const { errorView } = await import('./views/error');
  const { styleFor } = await import('./views/style');
  const { withoutSecrets } = await import('./known-secrets');
  const error = withoutSecrets(await asHodError(thrown));
  const style = styleFor(process.stderr, !argv.includes('--no-color'));
  tell(errorView(error, style));
  if (argv.includes('--json') && error.code !== 'answer-unwritable') {
    const { toErrorResult } = await import('../results/error');
    const { toJsonLine } = await import('../core/text');
    // The exit code stays that of the work, whether anybody reads why or not.
    await printDocument(toJsonLine(toErrorResult(error))).catch(async (unwritten: unknown) =>
      tell(errorView(await asHodError(unwritten), style)),
    );
  }
  return error.exitCode;
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
const code = await main(process.argv);
if (code !== 0) {
  process.exitCode = code;
}
