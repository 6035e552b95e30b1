import { redact } from '../core/access/secrets';
import type { Observer } from '../operations/session';
import type { OutputOptions } from './options';
import type { Style } from './views/style';

/** Turns a result into the text for people. */
export type View<T> = (result: T, style: Style, elapsed: number) => string;

/**
 * Runs the work of a command and prints its result: a document with `--json`, else its view.
 * Progress and logs go to standard error. Views are told the milliseconds that the work took.
 */
export async function answer<T>(
  options: OutputOptions,
  work: (observer: Observer) => Promise<T>,
  view: View<T>,
): Promise<T> {
  const { observerFor } = await import('./observer');
  const { styleFor } = await import('./views/style');
  const begun = performance.now();
  const observer = await observerFor(options, styleFor(process.stderr, options.color));
  let result: T;
  try {
    result = await work(observer);
  } finally {
    observer.end();
  }
  const style = styleFor(process.stdout, options.color);
  print(options.json === true ? JSON.stringify(result) : view(result, style, performance.now() - begun));
  return result;
}

/** Prints a result to standard output. */
export function print(text: string): void {
  process.stdout.write(`${redact(text)}\n`);
}
