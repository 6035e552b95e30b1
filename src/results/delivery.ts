import * as z from 'zod';
import { nameNow, type Component } from '../core/build/component';
import { ways } from '../core/ledger/way';
import { describePosition } from '../core/tags/ordering';
import type { DeliveredItem } from '../delivery/delivery';
import type { MovedEnvironment } from '../delivery/move';
import {
  contentFields,
  digest,
  includedResult,
  nextStep,
  tagResult,
  toContentResult,
  toIncludedResult,
  toTagResult,
  transferResult,
} from './common';

/** What became of one component that was published or promoted. */
export const deliveredFields = {
  ...contentFields,
  included: includedResult,
  /** How it came in: from now on the environment serves it, or not. */
  way: z.enum(ways),
  wayReason: z.string(),
  /** The version, or the beginning of the commit, that the environment serves of it now; null where that is nothing. */
  serves: z.string().nullable(),
  /** Whether that is of the same commit: it is served already, maybe as a version. */
  sameCommit: z.boolean(),
  tags: z.array(tagResult),
  /** Rules that gave no tag, and the placeholder that nothing is known for. */
  omitted: z.array(z.strictObject({ rule: z.string(), missing: z.string() })),
  /** Its referrers: carried now, there before; tags that stand for something else there, and were left alone. */
  referrers: z.strictObject({ brought: z.number().int(), present: z.number().int(), left: z.array(z.string()) }),
  transfer: transferResult,
};
export type DeliveredResult = z.infer<z.ZodObject<typeof deliveredFields>>;

/** The components that a release retires: the product has them no more, and the environment serves them no more; their tags stay. */
export const retires = z.array(z.string());

/** A product, and its components by every name that they have had. */
export interface NamedProduct {
  readonly product: string;
  readonly components: readonly Pick<Component, 'name' | 'was'>[];
}

/** Components that have another name from now on. */
export const renames = z.array(z.strictObject({ component: z.string(), was: z.string() }));

/** Names the components that retire with releases, each once, and apart from them those that have another name by now. */
export function leavingIn(
  verdicts: readonly { readonly retires: readonly string[] }[],
  components: NamedProduct['components'],
): { retires: string[]; renames: { component: string; was: string }[] } {
  const all = [...new Set(verdicts.flatMap((verdict) => verdict.retires))].map((was) => {
    return { component: nameNow(components, was), was };
  });
  return {
    retires: all.filter(({ component, was }) => component === was).map(({ was }) => was),
    renames: all.filter(({ component, was }) => component !== was),
  };
}

/** Where an environment was moved, and what came along; null where it did not move. */
export const movedResult = z
  .strictObject({
    /** Nothing else was done: what it serves stays. */
    alone: z.boolean(),
    components: z.array(z.strictObject({ component: z.string(), from: z.string(), repository: z.string() })),
    /** How much content was copied, and how much was there. */
    copied: z.number().int(),
    present: z.number().int(),
    /** Content of releases that no repository has: no rollback leads to them. */
    lost: z.array(z.strictObject({ component: z.string(), digest })),
    tags: z.number().int(),
  })
  .nullable();
export type MovedResult = z.infer<typeof movedResult>;

export function toMovedResult(
  environment: MovedEnvironment | undefined,
  { alone }: { readonly alone: boolean },
): MovedResult {
  if (environment === undefined) {
    return null;
  }
  const { places, copied, present, lost, tags } = environment;
  return {
    alone,
    components: places.map(({ component, from, repository }) => ({ component, from, repository })),
    ...{ copied, present, tags },
    lost: lost.map((each) => ({ component: each.component, digest: each.digest })),
  };
}

/** What became of a publication, a promotion or a rollback as a whole. */
export const outcomeFields = {
  /** True where nothing was written: the document says what would have been. */
  dryRun: z.boolean(),
  /** What people do now; nothing where nothing changed. */
  next: z.array(nextStep),
};

export function toDeliveredResult(item: DeliveredItem): DeliveredResult {
  const { tags, omitted, transfer, arrival, referrers } = item;
  return {
    ...toContentResult(item),
    included: toIncludedResult(item.included),
    way: arrival.way,
    wayReason: arrival.reason,
    serves: arrival.serves === undefined ? null : describePosition(arrival.serves),
    sameCommit: arrival.serves?.commit === item.origin.commit,
    tags: tags.map(toTagResult),
    omitted: omitted.map(({ rule, missing }) => ({ rule, missing })),
    referrers: { ...referrers, left: [...referrers.left] },
    transfer: { ...transfer },
  };
}
