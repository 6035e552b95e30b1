import { redact } from '../core/access/secrets';
import type { OutputOptions } from './options';
import type { Style } from './views/style';

/** Turns a result into the text for people. */
export type View<T> = (result: T, style: Style) => string;

/** Runs the work of a command and prints its result: a document with `--json`, else its view. */
export async function answer<T>(options: OutputOptions, work: () => Promise<T>, view: View<T>): Promise<void> {
  const result = await work();
  const { styleFor } = await import('./views/style');
  print(options.json === true ? JSON.stringify(result) : view(result, styleFor(process.stdout, options.color)));
}

/** Prints a result to standard output. */
export function print(text: string): void {
  process.stdout.write(`${redact(text)}\n`);
}
