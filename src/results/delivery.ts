import * as z from 'zod';
import type { DeliveredItem } from '../delivery/delivery';
import { contentFields, tagResult, toContentResult, toTagResult, transferResult } from './common';

/** What became of one image or bundle that was published or promoted. */
export const deliveredFields = {
  ...contentFields,
  tags: z.array(tagResult),
  /** Rules that gave no tag, and the placeholder that nothing is known for. */
  omitted: z.array(z.strictObject({ rule: z.string(), missing: z.string() })),
  transfer: transferResult,
};
export type DeliveredResult = z.infer<z.ZodObject<typeof deliveredFields>>;

/** What became of a publication or promotion as a whole. */
export const outcomeFields = {
  /** False where the environment goes on serving something newer. */
  current: z.boolean(),
  /** True where nothing was written: the document says what would have been. */
  dryRun: z.boolean(),
};

export function toDeliveredResult(item: DeliveredItem): DeliveredResult {
  const { tags, omitted, transfer } = item;
  return {
    ...toContentResult(item),
    tags: tags.map(toTagResult),
    omitted: omitted.map(({ rule, missing }) => ({ rule, missing })),
    transfer: { ...transfer },
  };
}
