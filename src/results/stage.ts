import * as z from 'zod';
import type { StageContext, StagedOutput } from '../delivery/sources/staging';
import { stagingOutcomes } from '../delivery/sources/staging';
import { contentFields, toContentResult, transferResult } from './common';

export const stageResultSchema = z.strictObject({
  product: z.string(),
  commit: z.string(),
  environment: z.string(),
  dryRun: z.boolean(),
  components: z.array(
    z.strictObject({
      ...contentFields,
      outcome: z.enum(stagingOutcomes),
      transfer: transferResult,
    }),
  ),
  /** What publishing this commit still waits for. */
  missing: z.array(z.strictObject({ component: z.string(), missing: z.array(z.string()) })),
});
export type StageResult = z.infer<typeof stageResultSchema>;

export function toStageResult(
  { config, build, dryRun }: Pick<StageContext, 'config' | 'build' | 'dryRun'>,
  outputs: readonly StagedOutput[],
  missing: StageResult['missing'],
): StageResult {
  return {
    product: config.product,
    commit: build.commit,
    environment: config.environments[0].name,
    dryRun,
    components: outputs.map((output) => {
      return { ...toContentResult(output), outcome: output.outcome, transfer: { ...output.transfer } };
    }),
    missing,
  };
}
