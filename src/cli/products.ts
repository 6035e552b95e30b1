import { toJsonLine, visibleValues } from '../core/text';
import { answer, printField, textOf, type Run, type View } from './answer';
import type { OutputOptions } from './options';
import { errorOf, tellError } from './report';
import { print, printDocument } from './streams';

/** How a product was named, and what became of it. */
export interface Done<T> {
  /** What keys and headings of this product begin with; nothing where it is the only one. */
  readonly config: string | undefined;
  readonly result: T;
}

/**
 * Runs the work of a command for the product that `--config` names, or one after the other for all that it matches as a
 * pattern. One that fails does not keep the others; its exit code is that of the run.
 *
 * @param together What several products are shown as; undefined where each has an answer of its own below its name.
 */
export async function answerForProducts<T extends object>(
  options: OutputOptions & { config?: string | undefined },
  work: (run: Run & { config: string | undefined }) => Promise<T>,
  view: View<T>,
  together?: View<readonly Done<T>[]>,
): Promise<Done<T>[]> {
  const { config } = options;
  // What reads patterns is loaded where something may be one.
  const files =
    config === undefined ? undefined : await import('../operations/products').then((all) => all.configsNamed(config));
  if (files === undefined) {
    return [{ config: undefined, result: await answer(options, (run) => work({ ...run, config }), view) }];
  }
  const { observerFor } = await import('./observer');
  const { styleFor } = await import('./views/style');
  const { knownSecrets } = await import('./known-secrets');
  const { toErrorResult } = await import('../results/error');
  const style = styleFor(process.stdout, options);
  const done: Done<T>[] = [];
  const products: object[] = [];
  const began = performance.now();
  for (const file of files) {
    const begun = performance.now();
    const observer = observerFor(options, styleFor(process.stderr, options));
    try {
      const result = await work({ observer, secrets: knownSecrets, config: file }).finally(() => {
        observer.end();
      });
      done.push({ config: file, result });
      products.push({ config: file, result, error: null });
      if (options.field !== undefined) {
        await printField(result, options.field);
      } else if (options.json !== true && together === undefined) {
        const text = await textOf(view, result, options, { style, elapsed: performance.now() - begun });
        await print(`${products.length > 1 ? '\n' : ''}${style.strong(visibleValues(file))}\n${text}`);
      }
    } catch (thrown) {
      const error = await errorOf(thrown);
      await tellError(error, options);
      process.exitCode ??= error.exitCode;
      products.push({ config: file, result: null, ...toErrorResult(error) });
    }
  }
  if (options.json === true && options.field === undefined) {
    await printDocument(toJsonLine({ products }));
  } else if (together !== undefined && options.field === undefined) {
    await print(await textOf(together, done, options, { style, elapsed: performance.now() - began }));
  }
  return done;
}
