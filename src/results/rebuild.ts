import * as z from 'zod';
import { formatCount } from '../core/amounts';
import { servedIn } from '../core/ledger/environment';
import { describePosition } from '../core/tags/ordering';
import type { Rebuilt } from '../rebuild/rebuild';
import type { RepositoryRemains } from '../rebuild/remains';
import { digest } from './common';

export const rebuildResultSchema = z.strictObject({
  product: z.string(),
  ledger: z.string(),
  /** True where nothing was written: the document says what would have been. */
  dryRun: z.boolean(),
  entries: z.number().int(),
  releases: z.number().int(),
  environments: z.array(
    z.strictObject({
      environment: z.string(),
      serves: z.array(
        z.strictObject({ component: z.string(), digest, version: z.string().nullable(), commit: z.string() }),
      ),
    }),
  ),
  /** What the registries do not tell. */
  notRecovered: z.array(z.strictObject({ what: z.string(), detail: z.string() })),
});
export type RebuildResult = z.infer<typeof rebuildResultSchema>;

/** A ledger that was made again, as a document, with what the registries do not tell. */
export function toRebuildResult(
  {
    believing,
    ...about
  }: Pick<RebuildResult, 'product' | 'ledger' | 'dryRun'> & {
    /** Nobody checked who signed the release records. */
    readonly believing: boolean;
  },
  { entries, facts, environments, unexplained }: Rebuilt,
  found: readonly RepositoryRemains[],
): RebuildResult {
  const releases = new Set(found.flatMap(({ records }) => records.map(({ record }) => record.release)));
  return {
    ...about,
    entries: entries.length,
    releases: releases.size,
    environments: environments.map((environment) => ({
      environment,
      serves: servedIn(facts, environment).map(({ component, digest: served, version, commit }) => {
        return { component, digest: served, version: version ?? null, commit };
      }),
    })),
    notRecovered: [
      { what: 'evidence', detail: 'results and sign-offs: record them again for what is to be promoted' },
      { what: 'actors', detail: 'who published and promoted; a sign-off by who published is not told apart' },
      ...lostArrivals(environments.slice(1)),
      {
        what: 'withdrawals',
        detail:
          'rollbacks that left no record (before Hod kept them, or with `referrers: { carry: none }`), unless tags show them; and when a release came back with --again',
      },
      ...(believing
        ? [{ what: 'forgeries', detail: 'release records were believed as they stand: who can push can make one up' }]
        : unbelievedIn(found)),
      ...lostIn(found),
      ...unexplained.map(({ environment, tags }) => ({
        what: 'tags',
        detail: `${environment}: no history leads to where these tags are: ${tags.slice(0, 5).join(', ')}; \`hod restore ${environment}\` puts them where the new ledger says`,
      })),
    ],
  };
}

function lostArrivals(later: readonly string[]): RebuildResult['notRecovered'] {
  const detail = `when releases came into ${later.join(', ')}, and in which order: they are taken to have come once, in the order of their publication, now; soak times begin anew`;
  return later.length === 0 ? [] : [{ what: 'arrivals', detail }];
}

/** Release records that were left out, because nobody signed them who is trusted; and those whose key has expired since. */
function unbelievedIn(found: readonly RepositoryRemains[]): RebuildResult['notRecovered'] {
  const unbelieved = listOf(found.flatMap((each) => each.unbelieved));
  const expired = listOf(found.flatMap((each) => each.expired));
  return [
    ...(unbelieved === undefined
      ? []
      : [{ what: 'unsigned', detail: `no trusted key signed ${unbelieved}; --unsigned takes them nevertheless` }]),
    ...(expired === undefined
      ? []
      : [{ what: 'expired-keys', detail: `the key under ${expired}: when it signed, only the records say` }]),
  ];
}

/** Records in words, the first few of them; undefined where there is none. */
function listOf(all: RepositoryRemains['unbelieved']): string | undefined {
  const releases = new Map(all.map(({ record, why }) => [record.release, `${describePosition(record)}: ${why}`]));
  const names = [...releases.values()];
  const more = names.length > 5 ? `; and ${names.length - 5} more` : '';
  return names.length === 0
    ? undefined
    : `the record of ${formatCount(names.length, 'release')} (${names.slice(0, 5).join('; ')}${more})`;
}

function lostIn(found: readonly RepositoryRemains[]): RebuildResult['notRecovered'] {
  const staged = found.reduce((sum, each) => sum + each.staged, 0);
  return [
    ...(staged === 0
      ? []
      : [{ what: 'staged', detail: `${staged} staged parts that were not published yet: stage them again` }]),
    ...found
      .filter(({ unknown }) => unknown.length > 0)
      .map(({ client, unknown: tags }) => ({
        what: 'without-record',
        detail: `${client.label}: ${tags.length} tags lead to images without a release record (${tags.slice(0, 3).join(', ')}${tags.length > 3 ? ', …' : ''}); order is judged by what they tell`,
      })),
    ...found.flatMap(({ client, damaged }) =>
      damaged.map(({ tag, why }) => ({ what: 'damaged', detail: `${client.label}:${tag} cannot be read: ${why}` })),
    ),
  ];
}
