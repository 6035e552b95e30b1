import { formatCount } from '../core/amounts';
import { HodError } from '../core/errors';
import { grouped } from '../core/grouped';
import { toJsonLine, visible, visibleValues } from '../core/text';
import type { ProductRun } from '../operations/products';
import type { Observer } from '../session/observer';
import { answer, printField, textOf, type Run, type View } from './answer';
import { knownSecrets } from './known-secrets';
import type { TerminalObserver } from './observer';
import type { OutputOptions } from './options';
import { errorOf, tellError } from './report';
import { print, printDocument, tell } from './streams';
import type { Style } from './views/style';

/** How a product was named, and what became of it. */
export interface Done<T> {
  /** What keys and headings of this product begin with; nothing where it is the only one. */
  readonly config: string | undefined;
  readonly result: T;
}

/** A product on which the work failed. */
interface ProductFailure {
  readonly config: string;
  readonly error: HodError;
}

/** What a command hands on to its work on one product. */
export interface ProductWork extends Run, Partial<Omit<ProductRun, 'config'>> {
  readonly config: string | undefined;
}

/** What commands for several products are told. */
interface ProductsOptions extends OutputOptions {
  readonly config?: string | undefined;
  readonly jobs?: number | undefined;
  /** All products are recorded in one step, or none is. */
  readonly together?: true | undefined;
}

/**
 * Runs the work of a command for the product that `--config` names, or for all that it matches as a pattern. One that fails does
 * not keep the others, unless they go together; its exit code is that of the run.
 *
 * @param shownTogether What several products are shown as; undefined where each has an answer of its own below its name.
 */
export async function answerForProducts<T extends object>(
  options: ProductsOptions,
  work: (run: ProductWork) => Promise<T>,
  view: View<T>,
  shownTogether?: View<readonly Done<T>[]>,
): Promise<Done<T>[]> {
  const { config } = options;
  // What reads patterns is loaded where something may be one.
  const products = config === undefined ? undefined : await import('../operations/products');
  const files = config === undefined ? undefined : await products?.configsNamed(config);
  if (products === undefined || files === undefined) {
    refuseAlone(options);
    return [{ config: undefined, result: await answer(options, (run) => work({ ...run, config }), view) }];
  }
  const answers = await openAnswers(options, files.length);
  const run = { observer: answers.observer, secrets: knownSecrets, jobs: options.jobs };
  const together = options.together === true;
  const done: Done<T>[] = [];
  try {
    const working = (product: ProductRun): Promise<T> =>
      work({ ...product, secrets: knownSecrets, observer: answers.observerOf(product.config) }).finally(() => {
        answers.count();
      });
    for await (const outcome of products.overProducts(files, { ...run, together }, working)) {
      const { config: file, milliseconds } = outcome;
      if ('error' in outcome) {
        await answers.failed(file, outcome.error);
      } else {
        done.push({ config: file, result: outcome.result });
        await answers.show(file, outcome.result, shownTogether === undefined ? view : undefined, milliseconds);
      }
    }
  } finally {
    answers.observer.end();
  }
  await answers.end(shownTogether && ((_, screen) => shownTogether(visibleValues(done), screen)));
  return done;
}

/** Throws `options-conflict` for `--together` where one product alone is named. */
function refuseAlone({ together, config }: ProductsOptions): void {
  if (together === true) {
    throw new HodError('options-conflict', {
      what: '--together needs several products',
      object: config ?? 'hod.yaml',
      why: 'it records all products in one step, and this names one',
      next: "name them with a pattern: -c 'services/*/hod.yaml'",
    });
  }
}

/** Tells why the work on products failed, the same of several once; the first is why the run did. */
export async function tellFailures(
  failures: readonly ProductFailure[],
  options: { readonly color: boolean },
): Promise<void> {
  const { nameFew } = await import('./views/components');
  // That others failed is not why the run did: it is told last.
  const isLeftOut = ({ error }: ProductFailure): boolean => error.code === 'others-refused';
  const ordered = [...failures.filter((each) => !isLeftOut(each)), ...failures.filter(isLeftOut)];
  for (const group of grouped(ordered, ({ error: { code, problem } }) => [code, problem])) {
    tell(
      visible(
        `${nameFew(
          group.map(({ config }) => config),
          'product',
        )}:`,
      ),
    );
    await tellError(await errorOf(group[0].error), options);
  }
  process.exitCode ??= ordered[0]?.error.exitCode;
}

/** Opens what several products are answered through. */
async function openAnswers(options: OutputOptions, count: number): Promise<Answers> {
  const { observerFor } = await import('./observer');
  const { styleFor } = await import('./views/style');
  const observer = observerFor(options, styleFor(process.stderr, options));
  return new Answers(options, styleFor(process.stdout, options), observer, count);
}

/** Prints what becomes of several products: an answer each below its name, or a document of all. */
class Answers {
  private readonly began = performance.now();
  private readonly products: object[] = [];
  private ended = 0;
  private readonly failures: ProductFailure[] = [];

  constructor(
    private readonly options: OutputOptions,
    private readonly style: Style,
    readonly observer: TerminalObserver,
    private readonly of: number,
  ) {}

  /** What is told of one product names it. */
  observerOf(file: string): Observer {
    const { observer } = this;
    return {
      ...observer,
      note: (text) => observer.note(`${file}: ${text}`),
      detail: (text) => observer.detail(`${file}: ${text}`),
      waiting: (text) => observer.waiting(`${file}: ${text}`),
    };
  }

  /** Counts a product whose work has ended. */
  count(): void {
    this.ended += 1;
    this.observer.counted(`${this.ended} of ${formatCount(this.of, 'product')}`);
  }

  /** Prints what became of a product; where there is no view, all are shown together in the end. */
  async show<T extends object>(file: string, result: T, view: View<T> | undefined, elapsed: number): Promise<void> {
    const { options, style, products } = this;
    products.push({ config: file, result, error: null });
    if (options.field !== undefined) {
      await printField(result, options.field);
    } else if (options.json !== true && view !== undefined) {
      const text = await textOf(view, result, options, { style, elapsed });
      await print(`${products.length > 1 ? '\n' : ''}${style.strong(visibleValues(file))}\n${text}`);
    }
  }

  /** Keeps why the work on a product failed: it is told in the end, the same of several products once. */
  async failed(file: string, thrown: unknown): Promise<void> {
    const { toErrorResult } = await import('../results/error');
    const error = await errorOf(thrown);
    this.products.push({ config: file, result: null, ...toErrorResult(error) });
    this.failures.push({ config: file, error });
  }

  /** Prints what is told of all products. */
  async end(view: View<undefined> | undefined): Promise<void> {
    const { options, style, products, failures } = this;
    await tellFailures(failures, options);
    if (options.json === true && options.field === undefined) {
      await printDocument(toJsonLine({ products }));
    } else if (view !== undefined && options.field === undefined) {
      await print(await textOf(view, undefined, options, { style, elapsed: performance.now() - this.began }));
    }
  }
}
