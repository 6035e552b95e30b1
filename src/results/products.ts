import * as z from 'zod';
import { errorResultSchema } from './error';

/** What a command answers for several products: for each its document, or the error that ended its work. */
export function productsSchema<T extends z.ZodType>(result: T) {
  return z.strictObject({
    products: z.array(
      z.strictObject({
        /** The configuration of the product. */
        config: z.string(),
        result: result.nullable(),
        error: errorResultSchema.shape.error.nullable(),
      }),
    ),
  });
}
