import type { TouchedResult } from '../../results/touched';

/** What `touched` answers of several products: `product/component`, a line each. */
export function touchedInProducts(results: readonly TouchedResult[]): string {
  return results
    .flatMap(({ product, components }) =>
      components.filter(({ touched }) => touched).map(({ component }) => `${product}/${component}`),
    )
    .join('\n');
}

/** What `touched` answers: the names alone, a line each, so that a shell can read them. */
export function touchedView(result: TouchedResult): string {
  return result.components
    .filter(({ touched }) => touched)
    .map(({ component }) => component)
    .join('\n');
}
