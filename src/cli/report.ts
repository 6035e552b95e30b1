import { HodError } from '../core/errors';
import { printDocument, tell } from './streams';

/** An error as users meet it. What nobody foresaw takes more to tell than most command lines need. */
async function asHodError(thrown: unknown): Promise<HodError> {
  return thrown instanceof HodError ? thrown : (await import('./unforeseen')).unforeseen(thrown);
}

/** An error as users meet it, without our secrets. */
export async function errorOf(thrown: unknown): Promise<HodError> {
  const { withoutSecrets } = await import('./known-secrets');
  return withoutSecrets(await asHodError(thrown));
}

/** Tells of an error in its one form. */
export async function tellError(error: HodError, { color }: { readonly color: boolean }): Promise<void> {
  const { errorView } = await import('./views/error');
  const { styleFor } = await import('./views/style');
  const text = errorView(error, styleFor(process.stderr, { color }));
  // What others read for something stays as it is.
  tell(process.stderr.isTTY ? (await import('./views/wrap')).wrapped(text, process.stderr.columns) : text);
}

/** Tells of what was thrown, in the one form of errors. Answers the exit code. */
export async function reportError(thrown: unknown, argv: readonly string[]): Promise<number> {
  const color = !argv.includes('--no-color');
  const error = await errorOf(thrown);
  await tellError(error, { color });
  if (argv.includes('--json') && error.code !== 'answer-unwritable') {
    const { toErrorResult } = await import('../results/error');
    const { toJsonLine } = await import('../core/text');
    // The exit code stays that of the work, whether anybody reads why or not.
    await printDocument(toJsonLine(toErrorResult(error))).catch(async (unwritten: unknown) =>
      tellError(await asHodError(unwritten), { color }),
    );
  }
  return error.exitCode;
}
