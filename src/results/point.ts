import * as z from 'zod';
import type { Pointed } from '../core/deployment/pointing';

export const pointResultSchema = z.strictObject({
  product: z.string(),
  environment: z.string(),
  /** True where nothing was to be written. */
  check: z.boolean(),
  files: z.array(
    z.strictObject({
      file: z.string(),
      written: z.boolean(),
      /** References that led where they should. */
      right: z.number().int(),
      changes: z.array(
        z.strictObject({
          component: z.string(),
          /** From 1. */
          line: z.number().int(),
          from: z.string(),
          to: z.string(),
          reason: z.enum(['other-environment', 'stale']),
          /** The line as it was, and as it is to be. */
          before: z.string(),
          after: z.string(),
        }),
      ),
      /** What cannot be pointed, and why. */
      left: z.array(
        z.strictObject({ component: z.string(), line: z.number().int(), object: z.string(), why: z.string() }),
      ),
    }),
  ),
});
export type PointResult = z.infer<typeof pointResultSchema>;

/** Files that were pointed, or checked, as a document. */
export function toPointResult(
  about: Pick<PointResult, 'product' | 'environment' | 'check'>,
  files: readonly (Pointed & { readonly path: string; readonly file: { readonly text: string } })[],
): PointResult {
  return {
    ...about,
    files: files.map(({ path, file, text, changes, left, right }) => {
      const [before, after] = [file.text, text].map((each) => each.split(/\r?\n/));
      return {
        file: path,
        written: !about.check && changes.length > 0,
        right,
        changes: changes.map((change) => ({
          ...change,
          before: before?.[change.line - 1] ?? '',
          after: after?.[change.line - 1] ?? '',
        })),
        left: [...left],
      };
    }),
  };
}
