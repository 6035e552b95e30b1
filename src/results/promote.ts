import * as z from 'zod';
import type { Release } from '../core/ledger/facts';
import type { Plan } from '../core/release/verdict';
import { describePosition } from '../core/tags/ordering';
import type { MovedEnvironment } from '../delivery/move';
import type { Delivered, DeliveredItem } from '../delivery/delivery';
import { gateResult, toGateResult } from './common';
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

export const promoteResultSchema = z.strictObject({
  product: z.string(),
  /** Of the release that comes in; null where several come in together, or it has none. */
  version: z.string().nullable(),
  /** Null where several releases come in together. */
  commit: z.string().nullable(),
  from: z.string(),
  to: z.string(),
  ...outcomeFields,
  /** Each rule for each release, which `of` names by its version or commit. */
  gates: z.array(gateResult.extend({ of: z.string() })),
  components: z.array(
    z.strictObject({
      ...deliveredFields,
      version: z.string().nullable(),
      commit: z.string(),
      sourceRepository: z.string(),
    }),
  ),
  retires,
  renames,
  moved: movedResult,
});
export type PromoteResult = z.infer<typeof promoteResultSchema>;

/** @param sourceOf Where a component was promoted from, and how many requests went there. */
export function toPromoteResult(
  {
    config: { product, components },
    releases,
    from,
    to,
    dryRun,
    moved,
    staying,
  }: {
    config: NamedProduct;
    releases: readonly Release[];
    from: string;
    to: string;
    dryRun: boolean;
    moved: MovedEnvironment | undefined;
    /** What the environment serves stays: it moved alone. */
    staying: boolean;
  },
  { verdicts, items }: Delivered<Plan>,
  sourceOf: (item: DeliveredItem) => { repository: string; requests: number },
): Omit<PromoteResult, 'next'> {
  const [first, ...others] = releases;
  const only = others.length === 0 ? first : undefined;
  return {
    product,
    version: only?.version ?? null,
    commit: only?.commit ?? null,
    from,
    to,
    dryRun,
    gates: verdicts.flatMap(({ plan, gates }) =>
      gates.map((gate) => ({ of: describePosition(plan.origin), ...toGateResult(gate) })),
    ),
    components: items.map((item) => {
      const { repository, requests } = sourceOf(item);
      const { transfer, ...component } = toDeliveredResult(item);
      return {
        ...component,
        version: item.origin.version ?? null,
        commit: item.origin.commit,
        sourceRepository: repository,
        transfer: { ...transfer, requests: transfer.requests + (repository === item.repository ? 0 : requests) },
      };
    }),
    ...leavingIn(verdicts, components),
    moved: toMovedResult(moved, { alone: staying }),
  };
}
