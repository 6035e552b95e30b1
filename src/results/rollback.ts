import * as z from 'zod';
import type { Release } from '../core/ledger/facts';
import type { TagDecision } from '../core/release/tag-decisions';
import { laneName } from '../core/ledger/lane';
import type { RollbackPlan } from '../core/release/rollback-plan';
import { digest, tagResult, toTagResult } from './common';
import { outcomeFields } from './delivery';

const releaseResult = z.strictObject({ version: z.string().nullable(), commit: z.string() });

export const rollbackResultSchema = z.strictObject({
  product: z.string(),
  environment: z.string(),
  /** The line of versions, or the branch, that was rolled back alone; null where the whole environment was. */
  line: z.string().nullable(),
  reason: z.string(),
  ...outcomeFields,
  /** What may not come back but on purpose, newest first. */
  withdrawn: z.array(releaseResult),
  components: z.array(
    z.strictObject({
      component: z.string(),
      repository: z.string(),
      /** What is served of it from now on, or is the newest of the line; null where that is nothing. */
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

/** @param repositoryOf The repository of a component in the environment. */
export function toRollbackResult(
  about: Pick<RollbackResult, 'product' | 'environment' | 'reason' | 'dryRun' | 'requests'>,
  { left, leaving, serves, served, changed, withdrawn }: RollbackPlan,
  decisions: readonly TagDecision[],
  repositoryOf: (component: string) => string,
): Omit<RollbackResult, 'next'> {
  const gone = [...served.filter(({ is }) => is === null), ...leaving].map(({ component }) => component);
  const names = [
    ...new Set([...serves.map(({ component }) => component), ...gone, ...decisions.map(({ component }) => component)]),
  ];
  return {
    ...about,
    line: left === undefined ? null : laneName(left.lane),
    withdrawn: withdrawn.map(toRelease),
    components: names.map((component) => {
      const now = serves.find((each) => each.component === component);
      return {
        component,
        repository: now?.repository ?? repositoryOf(component),
        digest: now?.digest ?? null,
        version: now?.version ?? null,
        commit: now?.commit ?? null,
        changed: changed.includes(component),
        tags: decisions.filter((each) => each.component === component).map(toTagResult),
      };
    }),
  };
}

function toRelease({ version, commit }: Release): z.infer<typeof releaseResult> {
  return { version: version ?? null, commit };
}
