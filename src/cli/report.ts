import { HodError } from '../core/errors';
import { printDocument, tell } from './streams';

/** An error as users meet it. What nobody foresaw takes more to tell than most command lines need. */
async function asHodError(thrown: unknown): Promise<HodError> {
  return thrown instanceof HodError ? thrown : (await import('./unforeseen')).unforeseen(thrown);
}

/** Tells of what was thrown, in the one form of errors. Answers the exit code. */
export async function reportError(thrown: unknown, argv: readonly string[]): Promise<number> {
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
