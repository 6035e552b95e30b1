import { randomUUID } from 'node:crypto';
import { Together, type TogetherMember } from '../delivery/together';
import { Resources } from '../session/resources';
import type { SessionOptions } from '../session/session';
import { Turns } from '../system/turns';
import { configsMatching, isPattern } from '../workspace/config-pattern';

/**
 * Finds the files that `--config` names, in the order of their names; undefined where it is the path of one file.
 *
 * @throws {@link HodError} `config-missing` where a pattern matches none.
 */
export async function configsNamed(text: string): Promise<readonly string[] | undefined> {
  return isPattern(text) ? configsMatching(text) : undefined;
}

/** What an operation is told besides, where it works on one of several products. */
export interface ProductRun {
  readonly config: string;
  readonly resources: Resources;
  /** Its part in what all products do in one step; undefined where each goes by itself. */
  readonly member: TogetherMember | undefined;
}

/** What became of one of several products. */
export type ProductOutcome<T> = { readonly config: string; readonly milliseconds: number } & (
  { readonly result: T } | { readonly error: unknown }
);

/** How many products are worked on at once. What they ask of registries shares the connections of one run. */
const atOnce = 8;

/**
 * Runs the work of an operation for several products, some at once, and answers what became of each, in the order of the files.
 * One that fails does not keep the others, unless they go together.
 *
 * @param together All products do one step together, or none does.
 */
export async function* overProducts<T>(
  files: readonly string[],
  { together, ...options }: SessionOptions & { readonly together: boolean },
  work: (run: ProductRun) => Promise<T>,
): AsyncGenerator<ProductOutcome<T>> {
  const turns = new Turns(atOnce);
  const joint = together ? new Together(randomUUID(), turns) : undefined;
  const resources = new Resources(options);
  const products = files.map((config) => ({ config, member: joint?.member(config) }));
  const outcomes = products.map(async (product): Promise<ProductOutcome<T>> => {
    await turns.take();
    const begun = performance.now();
    const ended = (): number => performance.now() - begun;
    try {
      const result = await work({ ...product, resources });
      product.member?.leave();
      return { config: product.config, milliseconds: ended(), result };
    } catch (error) {
      product.member?.leave(error);
      return { config: product.config, milliseconds: ended(), error };
    } finally {
      turns.give();
    }
  });
  try {
    for (const outcome of outcomes) {
      yield await outcome;
    }
  } finally {
    await Promise.all(outcomes);
    await resources.close();
  }
}
