import * as z from 'zod';
import type { Pointed } from '../core/deployment/pointing';

const unpointed = z.strictObject({
  component: z.string(),
  line: z.number().int(),
  object: z.string(),
  why: z.string(),
});

export const pointResultSchema = z.strictObject({
  /** The products whose images are pointed. Where they are several, a component is named `product/component`. */
  products: z.array(z.string()),
  environment: z.string(),
  /** True where nothing was to be written. */
  check: z.boolean(),
  files: z.array(
    z.strictObject({
      file: z.string(),
      written: z.boolean(),
      /** References that led where they should. */
      right: z.number().int(),
      /** Images that are none of the product's. */
      others: z.number().int(),
      changes: z.array(
        z.strictObject({
          component: z.string(),
          /** The first line that changes, from 1. */
          line: z.number().int(),
          from: z.string(),
          to: z.string(),
          reason: z.enum(['other-environment', 'stale']),
          /** The lines that change, as they were and as they are to be. */
          before: z.string(),
          after: z.string(),
        }),
      ),
      /** What cannot be pointed, and why. */
      left: z.array(unpointed),
      /** References to components that retired in the environment: they stay as they are. */
      retired: z.array(unpointed),
      /** What looks like an image of the product, and was not understood: it is neither pointed nor checked. */
      unclear: z.array(unpointed),
    }),
  ),
});
export type PointResult = z.infer<typeof pointResultSchema>;

/** Files that were pointed, or checked, as a document. */
export function toPointResult(
  about: Pick<PointResult, 'products' | 'environment' | 'check'>,
  files: readonly (Pointed & { readonly path: string; readonly file: { readonly text: string } })[],
): PointResult {
  return {
    ...about,
    files: files.map(({ path, file, text, changes, left, right, retired, unclear, others }) => {
      const [before, after] = [file.text, text].map((each) => each.split(/\r?\n/));
      return {
        file: path,
        written: !about.check && changes.length > 0,
        right,
        others,
        changes: changes.map(({ lines, ...change }) => ({
          ...change,
          line: lines[0],
          before: lines.map((line) => before?.[line - 1] ?? '').join('\n'),
          after: lines.map((line) => after?.[line - 1] ?? '').join('\n'),
        })),
        left: [...left],
        retired: [...retired],
        unclear: [...unclear],
      };
    }),
  };
}
