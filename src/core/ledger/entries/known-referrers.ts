import * as z from 'zod';
import { digestSchema } from '../../oci/digest';
import { repositoryNameSchema } from '../../oci/reference';
import { tagSchema } from '../../oci/tag';
import { digestFact, referrersKey, type FactKey, type Facts } from '../facts';
import { isRecordType } from '../release-record';
import type { Circumstances } from './action';
import { foldReferrerDigests } from './known-digests';

/** The referrers of manifests: they name the manifest as their subject, or stand under a tag for it. */
export const knownReferrersSchema = z.array(
  z.object({
    repository: repositoryNameSchema,
    subject: digestSchema,
    referrers: z.array(z.object({ digest: digestSchema, type: z.string(), tag: tagSchema.optional() })),
  }),
);
export type KnownReferrers = z.infer<typeof knownReferrersSchema>;

/** The facts that the fold of referrers reads. */
export function factsOfReferrers(referrers: KnownReferrers = []): FactKey[] {
  return [
    ...referrers.map(({ repository, subject }): FactKey => {
      return { kind: 'referrers', key: referrersKey(repository, subject) };
    }),
    ...referrers.flatMap(({ referrers: all }) => all.map(({ digest }) => digestFact(digest))),
  ];
}

/** A component may be in any number of releases: so many of their records are kept in mind, the latest. */
const recordsKept = 32;

/** Folds in referrers. Under a tag there is one at a time. What was known keeps the time since when. */
export function foldReferrers(
  referrers: KnownReferrers = [],
  { at }: Pick<Circumstances, 'at'>,
  before: Facts,
  after: Facts,
): void {
  for (const { repository, subject, referrers: arrived } of referrers) {
    const key = referrersKey(repository, subject);
    const known = before.get('referrers', key) ?? [];
    foldReferrerDigests(subject, arrived, before, after);
    const replaced = (each: (typeof known)[number]): boolean =>
      arrived.some(({ digest, tag }) => digest === each.digest || (tag !== undefined && tag === each.tag));
    const since = new Map(known.map((each) => [each.digest, each.at]));
    const coming = arrived.map((each) => ({ ...each, at: since.has(each.digest) ? since.get(each.digest) : at }));
    const all = [...known.filter((each) => !replaced(each)), ...coming];
    const records = all.filter(({ type }) => isRecordType(type));
    const dropped = new Set(records.slice(0, Math.max(0, records.length - recordsKept)));
    after.set(
      'referrers',
      key,
      all.filter((each) => !dropped.has(each)),
    );
  }
}
