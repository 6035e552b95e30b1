import * as z from 'zod';
import type { Release } from '../core/ledger/facts';
import type { TagDecision } from '../core/release/tag-decisions';
import type { RollbackPlan } from '../core/release/rollback';
import { digest, tagResult, toTagResult } from './common';
import { outcomeFields } from './delivery';

const releaseResult = z.strictObject({ version: z.string().nullable(), commit: z.string() });

export const rollbackResultSchema = z.strictObject({
  product: z.string(),
  environment: z.string(),
  reason: z.string(),
  ...outcomeFields,
  /** What may not come back but on purpose, newest first. */
  withdrawn: z.array(releaseResult),
  images: z.array(
    z.strictObject({
      image: z.string(),
      repository: z.string(),
      /** What is served of it from now on; null where that is nothing. */
      digest: digest.nullable(),
      version: z.string().nullable(),
      commit: z.string().nullable(),
      /** Whether this is something else than before. */
      changed: z.boolean(),
      tags: z.array(tagResult),
    }),
  ),
  requests: z.number().int(),
});
export type RollbackResult = z.infer<typeof rollbackResultSchema>;

/** @param repositoryOf The repository of an image in the environment. */
export function toRollbackResult(
  about: Pick<RollbackResult, 'product' | 'environment' | 'reason' | 'dryRun' | 'requests'>,
  { serves, served, changed, withdrawn }: RollbackPlan,
  decisions: readonly TagDecision[],
  repositoryOf: (image: string) => string,
): Omit<RollbackResult, 'next'> {
  const gone = served.filter(({ is }) => is === null).map(({ image }) => image);
  const names = [...new Set([...serves.map(({ image }) => image), ...gone, ...decisions.map(({ image }) => image)])];
  return {
    ...about,
    withdrawn: withdrawn.map(toRelease),
    images: names.map((image) => {
      const now = serves.find((each) => each.image === image);
      return {
        image,
        repository: now?.repository ?? repositoryOf(image),
        digest: now?.digest ?? null,
        version: now?.version ?? null,
        commit: now?.commit ?? null,
        changed: changed.includes(image),
        tags: decisions.filter((each) => each.image === image).map(toTagResult),
      };
    }),
  };
}

function toRelease({ version, commit }: Release): z.infer<typeof releaseResult> {
  return { version: version ?? null, commit };
}
