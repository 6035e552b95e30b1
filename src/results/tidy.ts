import * as z from 'zod';
import { manifestKey } from '../core/ledger/facts';
import { describeKeep } from '../core/tidy/keep';
import type { PlacedContent } from '../core/tidy/content-history';
import { contentIn, type StayReason } from '../core/tidy/content-plan';
import type { HoldReason, RepositoryRemoval } from '../core/tidy/removal';
import type { SurveyedRepository, TidyEnvironment } from '../tidying/tidying';
import type { Tidied, TidiedContent } from '../tidying/tidy';
import { digest } from './common';

/** Why content stays. */
const reasonSchema = z.strictObject({
  why: z.enum([
    'served',
    'rollback',
    'withdrawn',
    'released',
    'releases',
    'branches',
    'time',
    'uploaded',
    'all',
    'tag',
    'shared',
    'part',
  ]),
  /** The environment that needs or keeps it. */
  environment: z.string().nullable(),
  /** The tag, the version, the product that has it too, or the digest that it is part of. */
  of: z.string().nullable(),
});

/** What the ledger says of some content. */
const contentFields = {
  digest,
  components: z.array(z.string()),
  environments: z.array(z.string()),
  /** The releases that have it, the latest first: 16 at most. */
  releases: z.array(z.strictObject({ version: z.string().nullable(), commit: z.string() })),
};

export const tidyResultSchema = z.strictObject({
  product: z.string(),
  /** True where nothing was removed: the document says what would go. */
  dryRun: z.boolean(),
  /** What each environment keeps, in words; null where it keeps everything. */
  environments: z.array(z.strictObject({ environment: z.string(), keep: z.string().nullable() })),
  repositories: z.array(
    z.strictObject({
      repository: z.string(),
      components: z.array(z.string()),
      /** Bytes that it holds, as far as it was looked through, and that would be free; null where nothing of it would go. */
      holds: z.number().nullable(),
      frees: z.number().nullable(),
      goes: z.array(
        z.strictObject({
          ...contentFields,
          tags: z.array(z.string()),
          manifests: z.number().int(),
          referrers: z.number().int(),
          /** `goes`: it was not removed by this run; `left`: its registry did not let it go. */
          outcome: z.enum(['goes', 'removed', 'left']),
          why: z.string().nullable(),
        }),
      ),
      stays: z.array(z.strictObject({ ...contentFields, reasons: z.array(reasonSchema) })),
      /** Tags that the ledger never set: they stay, with all that they lead to. */
      unknown: z.array(z.string()),
      /** Why it could not be looked through; null where it was, or nothing of it would go. */
      unread: z.string().nullable(),
    }),
  ),
  /** What earlier runs had begun to remove, and this one finished. */
  finished: z.number().int(),
  requests: z.number().int(),
});
export type TidyResult = z.infer<typeof tidyResultSchema>;

/** So many releases of some content are named. */
const mostReleases = 16;

/** What may go and what stays, as a document. */
export function toTidyResult(
  about: Pick<TidyResult, 'product' | 'dryRun' | 'requests'>,
  environments: readonly Pick<TidyEnvironment, 'name' | 'keep'>[],
  { repositories, tidied }: Tidied,
): TidyResult {
  const done = new Map(tidied.map((each) => [manifestKey(each.content.repository, each.content.digest), each]));
  const shown = repositories.map((each) => toRepository(each, done));
  const own = new Set(
    repositories.flatMap(({ found }) =>
      (found?.goes ?? []).map(({ placed }) => manifestKey(placed.repository, placed.digest)),
    ),
  );
  return {
    ...about,
    environments: environments.map(({ name, keep }) => ({
      environment: name,
      keep: keep === undefined ? null : describeKeep(keep),
    })),
    repositories: shown.filter(({ goes, stays, unknown }) => goes.length + stays.length + unknown.length > 0),
    finished: [...done.keys()].filter((key) => !own.has(key)).length,
  };
}

function toRepository(
  { plan, found, unread }: SurveyedRepository,
  done: ReadonlyMap<string, TidiedContent>,
): TidyResult['repositories'][number] {
  const stays: RepositoryRemoval['stays'] = found?.stays ?? plan.stays;
  const components = contentIn(plan).flatMap((each) => [...each.components]);
  return {
    repository: plan.repository,
    components: [...new Set(components)],
    holds: found?.holds ?? null,
    frees: found?.frees ?? null,
    goes: (found?.goes ?? []).map(({ placed, tags, manifests, referrers }) => {
      const outcome = done.get(manifestKey(placed.repository, placed.digest))?.outcome;
      return {
        ...toContent(placed),
        tags: [...tags],
        manifests: manifests.length,
        referrers: referrers.length,
        outcome: outcome === undefined ? 'goes' : outcome.removed.has(placed.digest) ? 'removed' : 'left',
        why: outcome?.why ?? null,
      };
    }),
    stays: stays.map(({ placed, reasons }) => ({ ...toContent(placed), reasons: reasons.map(toReason) })),
    unknown: (found?.unknown ?? []).map(({ tag }) => tag),
    unread: unread?.message ?? null,
  };
}

function toContent({ digest, components, environments, releases }: PlacedContent) {
  return {
    digest,
    components: [...components],
    environments: [...environments],
    releases: [...releases.values()]
      .slice(-mostReleases)
      .reverse()
      .map(({ version, commit }) => ({ version: version ?? null, commit })),
  };
}

function toReason(reason: StayReason | HoldReason): z.infer<typeof reasonSchema> {
  switch (reason.why) {
    case 'led':
      return { why: 'tag', environment: null, of: reason.tag };
    case 'part':
      return { why: reason.why, environment: null, of: reason.of };
    case 'shared':
      return { why: reason.why, environment: null, of: reason.product };
    case 'uploaded':
      return { why: reason.why, environment: null, of: null };
    case 'released':
      return { why: reason.why, environment: reason.environment, of: reason.version };
    default:
      return { why: reason.why, environment: reason.environment, of: 'tag' in reason ? (reason.tag ?? null) : null };
  }
}
