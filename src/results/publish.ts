import * as z from 'zod';
import type { Build } from '../core/release/build';
import type { PublicationPlan } from '../core/release/publication';
import { versionOutcomes } from '../core/release/versions';
import type { Delivered } from '../delivery/delivery';
import { releaseFields } from './common';
import { deliveredFields, outcomeFields, toDeliveredResult } from './delivery';

export const publishResultSchema = z.strictObject({
  ...releaseFields,
  /** Why it has this version, or none. */
  versioning: z.strictObject({ outcome: z.enum(versionOutcomes), reason: z.string() }),
  branch: z.string().nullable(),
  build: z.string().nullable(),
  environment: z.string(),
  ...outcomeFields,
  images: z.array(z.strictObject(deliveredFields)),
  /** Tags that protected what was staged, and that the registry does not remove. */
  leftovers: z.array(z.string()),
});
export type PublishResult = z.infer<typeof publishResultSchema>;

export function toPublishResult(
  { product, environment, build, dryRun }: { product: string; environment: string; build: Build; dryRun: boolean },
  { plan, current, items }: Delivered<PublicationPlan>,
  leftovers: string[],
): PublishResult {
  const { outcome, reason, version } = plan.versioning;
  return {
    product,
    version: version ?? null,
    versioning: { outcome, reason },
    commit: build.commit,
    branch: build.branch ?? null,
    build: build.number ?? null,
    environment,
    current,
    dryRun,
    images: items.map(toDeliveredResult),
    leftovers,
  };
}
