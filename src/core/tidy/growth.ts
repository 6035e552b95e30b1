import type { RepositoryName } from '../oci/reference';
import type { Digest } from '../oci/digest';
import type { WeekOfContent } from './content-history';
import { contentIn, type RepositoryPlan, type StayReason } from './content-plan';
import type { HoldReason, RepositoryRemoval, RepositorySurvey } from './removal';

/**
 * Why a part of what a repository holds is there, the strongest reason first; `unknown`: no ledger set the tag that leads to it;
 * `goes`: nothing keeps it.
 */
export const shareReasons = [
  ...(['served', 'tag', 'rollback', 'withdrawn', 'released', 'releases', 'branches', 'time'] as const),
  ...(['uploaded', 'all', 'shared', 'led', 'part', 'unknown', 'goes'] as const),
] as const satisfies readonly (StayReason['why'] | HoldReason['why'] | 'unknown' | 'goes')[];
type ShareReason = (typeof shareReasons)[number];

/** A part of what a repository holds. */
export interface ContentShare {
  readonly why: ShareReason;
  /** The environment that needs or keeps it. */
  readonly environment: string | undefined;
  readonly digests: number;
  /** What several parts have counts for the first of them. Undefined where the registry was not asked. */
  readonly bytes: number | undefined;
}

/** How much a repository holds, why, and how that changed. */
export interface RepositoryGrowth {
  readonly repository: RepositoryName;
  readonly components: readonly string[];
  /** What the ledger says is there. */
  readonly digests: number;
  /** Undefined where the registry was not asked, or did not answer. */
  readonly bytes: number | undefined;
  /** The parts, what is needed the most first, and what may go last. */
  readonly shares: readonly ContentShare[];
  /** What came and went by week, each by its Monday (UTC); weeks without either are left out. */
  readonly weeks: readonly WeekOfContent[];
}

/** Content of which one thing is the reason. */
type Part = Pick<ContentShare, 'why' | 'environment'> & { readonly digests: Digest[] };

/**
 * Adds up how much a repository holds.
 *
 * @param looked What its registry says; undefined where that was not asked.
 */
export function growthOf(
  plan: RepositoryPlan,
  weeks: readonly WeekOfContent[],
  looked: { readonly removal: RepositoryRemoval; readonly survey: RepositorySurvey } | undefined,
): RepositoryGrowth {
  const parts = new Map<string, Part>();
  const add = (why: ShareReason, environment: string | undefined, digest: Digest): void => {
    const key = `${why} ${environment ?? ''}`;
    const part = parts.get(key) ?? { why, environment, digests: [] };
    part.digests.push(digest);
    parts.set(key, part);
  };
  for (const { placed, reasons } of looked?.removal.stays ?? plan.stays) {
    const [reason] = reasons;
    if (reason !== undefined) {
      add(reason.why, 'environment' in reason ? reason.environment : undefined, placed.digest);
    }
  }
  const all = contentIn(plan);
  const known = new Set(all.map(({ digest }) => digest));
  for (const digest of new Set((looked?.removal.unknown ?? []).map((each) => each.digest))) {
    if (!known.has(digest)) {
      add('unknown', undefined, digest);
    }
  }
  const goes = looked?.removal.goes.map(({ placed }) => placed) ?? plan.goes;
  goes.forEach(({ digest }) => add('goes', undefined, digest));
  const sorted = [...parts.values()].sort((a, b) => shareReasons.indexOf(a.why) - shareReasons.indexOf(b.why));
  const bytes = looked === undefined ? undefined : bytesOf(sorted, looked.survey);
  return {
    repository: plan.repository,
    components: [...new Set(all.flatMap(({ components }) => [...components]))],
    digests: all.length,
    bytes: bytes?.reduce((sum, each) => sum + each, 0),
    shares: sorted.map(({ why, environment, digests }, at) => {
      return { why, environment, digests: digests.length, bytes: bytes?.[at] };
    }),
    weeks,
  };
}

/** The bytes of parts: of their manifests, all below them and their blobs. What several have counts for the first. */
function bytesOf(parts: readonly Part[], { manifests }: RepositorySurvey): number[] {
  const counted = new Set<Digest>();
  const once = (digest: Digest, size: number): number => {
    const isFirst = !counted.has(digest);
    counted.add(digest);
    return isFirst ? size : 0;
  };
  const weigh = (digest: Digest): number => {
    const manifest = manifests.get(digest);
    if (manifest === undefined || counted.has(digest)) {
      return 0;
    }
    const { size, below, blobs } = manifest;
    const own = once(digest, size) + blobs.reduce((sum, blob) => sum + once(blob.digest, blob.size), 0);
    return below.reduce((sum, each) => sum + weigh(each), own);
  };
  return parts.map(({ digests }) => digests.reduce((sum, digest) => sum + weigh(digest), 0));
}
