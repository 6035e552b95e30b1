import * as z from 'zod';
import type { RestoredTags } from '../delivery/restore';
import { tagResult, toTagResult } from './common';

export const restoreResultSchema = z.strictObject({
  product: z.string(),
  environment: z.string(),
  /** True where nothing was written: the document says what would have been. */
  dryRun: z.boolean(),
  /** How many tags the ledger set in the environment; all of them were looked at. */
  tags: z.number().int(),
  /** Those that stood elsewhere than the ledger says. */
  components: z.array(z.strictObject({ component: z.string(), repository: z.string(), tags: z.array(tagResult) })),
  requests: z.number().int(),
});
export type RestoreResult = z.infer<typeof restoreResultSchema>;

/** The tags that were put right, as a document. */
export function toRestoreResult(
  about: Omit<RestoreResult, 'tags' | 'components'>,
  { count, decisions }: RestoredTags,
): RestoreResult {
  const repositories = new Map(decisions.map(({ component, repository }) => [component, repository]));
  return {
    ...about,
    tags: count,
    components: [...repositories].map(([component, repository]) => ({
      component,
      repository,
      tags: decisions.filter((each) => each.component === component).map(toTagResult),
    })),
  };
}
