import * as z from 'zod';
import type { Build } from '../core/build/build';
import type { PublicationPlan } from '../core/release/publication';
import { versionOutcomes } from '../core/release/versions';
import type { MovedEnvironment } from '../delivery/move';
import type { Delivered } from '../delivery/delivery';
import { gateResult, releaseFields, toGateResult } from './common';
import {
  deliveredFields,
  movedResult,
  outcomeFields,
  retires,
  leavingIn,
  type NamedProduct,
  renames,
  toDeliveredResult,
  toMovedResult,
} from './delivery';

export const publishResultSchema = z.strictObject({
  ...releaseFields,
  /** Why it has this version, or none. */
  versioning: z.strictObject({ outcome: z.enum(versionOutcomes), reason: z.string() }),
  branch: z.string().nullable(),
  build: z.string().nullable(),
  environment: z.string(),
  ...outcomeFields,
  gates: z.array(gateResult),
  components: z.array(z.strictObject(deliveredFields)),
  retires,
  renames,
  moved: movedResult,
  /** The git tag of the version, with `--git-tag`; null without, or where there is no version. */
  gitTag: z
    .strictObject({
      tag: z.string(),
      remote: z.string().nullable(),
      outcome: z.enum(['created', 'unchanged', 'refused', 'failed']),
      reason: z.string(),
    })
    .nullable(),
  /** Tags that protected what was staged, and that the registry does not remove. */
  leftovers: z.array(z.string()),
});
export type PublishResult = z.infer<typeof publishResultSchema>;

export function toPublishResult(
  {
    config: { product, components },
    environment,
    build,
    dryRun,
    moved,
    gitTag,
  }: {
    config: NamedProduct;
    environment: string;
    build: Build;
    dryRun: boolean;
    moved: MovedEnvironment | undefined;
    gitTag: PublishResult['gitTag'] | undefined;
  },
  { verdicts, items }: Delivered<PublicationPlan>,
  leftovers: string[],
): Omit<PublishResult, 'next'> {
  const [verdict] = verdicts;
  if (verdict === undefined) {
    throw new Error('a publication was decided about nothing');
  }
  const { outcome, reason, version } = verdict.plan.versioning;
  return {
    product,
    version: version ?? null,
    versioning: { outcome, reason },
    commit: build.commit,
    branch: build.branch ?? null,
    build: build.number ?? null,
    environment,
    dryRun,
    gates: verdict.gates.map(toGateResult),
    components: items.map(toDeliveredResult),
    ...leavingIn(verdicts, components),
    moved: toMovedResult(moved, { alone: false }),
    gitTag: gitTag ?? null,
    leftovers,
  };
}
