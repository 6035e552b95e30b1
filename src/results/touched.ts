import * as z from 'zod';
import { contentFields } from './common';

export const touchedResultSchema = z.strictObject({
  product: z.string(),
  since: z.string(),
  commit: z.string(),
  components: z.array(
    z.strictObject({
      component: contentFields.component,
      kind: contentFields.kind,
      touched: z.boolean(),
      /** Changed files that it is made of; empty where nothing says what it is made of. */
      files: z.array(z.string()),
      reason: z.string(),
    }),
  ),
});
export type TouchedResult = z.infer<typeof touchedResultSchema>;
