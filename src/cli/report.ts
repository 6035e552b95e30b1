import { exitCodes, HodError, messageOf, type ErrorCode } from '../core/errors';
import { printDocument, tell } from './streams';

/**
 * Loads what it takes to tell of an error, which a command line that is merely wrong does without. Where
 * descriptors or memory run out in the middle of work, nothing can be loaded any more.
 */
export async function loadReport(): Promise<void> {
  await import('./unforeseen');
  await import('./views/error');
  await import('./views/style');
  await import('./known-secrets');
  await import('../results/error');
  await import('../core/text');
}

/** An error as users meet it. What nobody foresaw takes more to tell than most command lines need. */
async function asHodError(thrown: unknown): Promise<HodError> {
  return thrown instanceof HodError ? thrown : (await import('./unforeseen')).unforeseen(thrown);
}

/** Tells of what was thrown, in the one form of errors. Answers the exit code. */
export async function reportError(thrown: unknown, argv: readonly string[]): Promise<number> {
  try {
    return await tellError(thrown, argv);
  } catch (unloaded) {
    return tellPlainly(unloaded, argv);
  }
}

/** Tells that not even what tells of errors can be loaded: in the same form, without it. */
async function tellPlainly(unloaded: unknown, argv: readonly string[]): Promise<number> {
  const what = 'a part of Hod cannot be loaded';
  const object = argv[1] ?? 'hod';
  const why = messageOf(unloaded);
  const next = 'let this process open more files, or read the folder that Hod is in; then run the command again';
  const code: ErrorCode = 'system-refused';
  const exitCode = exitCodes.unavailable;
  tell(`hod: ${what}\n  object ${object}\n  why    ${why}\n  next   ${next}`);
  if (argv.includes('--json')) {
    const error = { code, fault: 'unavailable', exitCode, what, object, why, next, gates: [] };
    await printDocument(JSON.stringify({ error })).catch(() => undefined);
  }
  return exitCode;
}

async function tellError(thrown: unknown, argv: readonly string[]): Promise<number> {
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
