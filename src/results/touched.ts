import * as z from 'zod';
import { contentFields } from './common';

export const touchedResultSchema = z.strictObject({
  product: z.string(),
  /** The commit, tag or branch that was named; null where each component is compared with what the first environment serves. */
  since: z.string().nullable(),
  commit: z.string(),
  components: z.array(
    z.strictObject({
      component: contentFields.component,
      kind: contentFields.kind,
      /** What it was compared with; null where nothing is served of it, or git here does not have that. */
      since: z.string().nullable(),
      touched: z.boolean(),
      /** Changed files that it is made of; empty where nothing says what it is made of. */
      files: z.array(z.string()),
      reason: z.string(),
    }),
  ),
});
export type TouchedResult = z.infer<typeof touchedResultSchema>;
