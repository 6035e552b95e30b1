import * as z from 'zod';
import type { Release } from '../core/release/facts';
import type { Plan } from '../core/release/verdict';
import type { Delivered, DeliveredItem } from '../delivery/delivery';
import { gateResult, releaseFields, toGateResult } from './common';
import { deliveredFields, outcomeFields, toDeliveredResult } from './delivery';

export const promoteResultSchema = z.strictObject({
  ...releaseFields,
  from: z.string(),
  to: z.string(),
  ...outcomeFields,
  gates: z.array(gateResult),
  images: z.array(z.strictObject({ ...deliveredFields, sourceRepository: z.string() })),
});
export type PromoteResult = z.infer<typeof promoteResultSchema>;

/** @param sourceOf Where an image was promoted from, and how many requests went there. */
export function toPromoteResult(
  {
    product,
    release,
    from,
    to,
    dryRun,
  }: { product: string; release: Release; from: string; to: string; dryRun: boolean },
  { current, gates, items }: Delivered<Plan>,
  sourceOf: (item: DeliveredItem) => { repository: string; requests: number },
): PromoteResult {
  return {
    product,
    version: release.version ?? null,
    commit: release.commit,
    from,
    to,
    current,
    dryRun,
    gates: gates.map(toGateResult),
    images: items.map((item) => {
      const { repository, requests } = sourceOf(item);
      const { transfer, ...image } = toDeliveredResult(item);
      return {
        ...image,
        sourceRepository: repository,
        transfer: { ...transfer, requests: transfer.requests + (repository === item.repository ? 0 : requests) },
      };
    }),
  };
}
