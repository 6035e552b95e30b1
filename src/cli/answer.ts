import type { Secrets } from '../core/access/secrets';
import { exitCodes } from '../core/errors';
import { toJsonLine, visible, visibleValues } from '../core/text';
import type { Observer } from '../session/observer';
import { knownSecrets } from './known-secrets';
import type { OutputOptions } from './options';
import { answerWidth, print, printDocument } from './streams';
import type { Style } from './views/style';

/** How a result is to look as text. */
export interface Screen {
  readonly style: Style;
  /** How many columns there is room for. */
  readonly width: number;
  /** Milliseconds that the work took. */
  readonly elapsed: number;
  /** Somebody may want to know what to do next; in a pipeline that is written down already. */
  readonly guiding: boolean;
  /** Show everything, also what did not change. */
  readonly verbose: boolean;
}

/** Where nobody says how wide a line may be, a table is as a log shows it well. */
const logWidth = 120;

/** The text of a result, as it fits the terminal. `elapsed`: milliseconds that the work took. */
export async function textOf<T>(
  view: View<T>,
  result: T,
  { verbose, quiet }: OutputOptions,
  { style, elapsed }: Pick<Screen, 'style' | 'elapsed'>,
): Promise<string> {
  const width = answerWidth();
  const text = view(visibleValues(result), {
    ...{ style, width: width ?? logWidth, elapsed },
    guiding: (process.env['CI'] ?? '') === '' && quiet !== true,
    verbose: verbose === true,
  });
  // Lines of a log are looked for: they stay whole.
  return width === undefined ? text : (await import('./views/wrap')).wrapped(text, width);
}

/** Turns a result into the text for people. No text in the result acts on a terminal any more. */
export type View<T> = (result: T, screen: Screen) => string;

/** What a command hands on to its work. */
export interface Run {
  readonly observer: Observer;
  readonly secrets: Secrets;
}

/** Runs the work of a command. Progress and logs go to standard error. */
export async function observing<T>(options: OutputOptions, work: (run: Run) => Promise<T>): Promise<T> {
  const { observerFor } = await import('./observer');
  const { styleFor } = await import('./views/style');
  const observer = observerFor(options, styleFor(process.stderr, options));
  try {
    return await work({ observer, secrets: knownSecrets });
  } finally {
    knownSecrets.unsearchable.forEach((purpose) =>
      observer.note(`warning: the secret of ${purpose} is too short or too common to mask in output`),
    );
    observer.end();
  }
}

/**
 * Runs the work of a command and prints its result: a document with `--json`, else its view.
 * Progress and logs go to standard error.
 */
export async function answer<T extends object>(
  options: OutputOptions,
  work: (run: Run) => Promise<T>,
  view: View<T>,
): Promise<T> {
  const { styleFor } = await import('./views/style');
  const begun = performance.now();
  const result = await observing(options, work);
  if (options.field !== undefined) {
    await printField(result, options.field);
  } else if (options.json === true) {
    await printDocument(toJsonLine(result));
  } else {
    await print(
      await textOf(view, result, options, {
        style: styleFor(process.stdout, options),
        elapsed: performance.now() - begun,
      }),
    );
  }
  return result;
}

/** Prints a field of a document, bare; what would act on a terminal is escaped, as everywhere. */
export async function printField(document: object, field: string): Promise<void> {
  const { fieldOf } = await import('../core/field');
  await print(fieldOf(document, field).map(visible).join('\n'));
}

/** Ends a dry run with the exit code that the real run would end with: refused, where a rule is not met. */
export function endUnmet(gates: readonly { readonly outcome: string }[]): void {
  if (gates.some(({ outcome }) => outcome === 'unmet')) {
    process.exitCode = exitCodes.refused;
  }
}
