import * as z from 'zod';
import { digestSchema } from '../../oci/digest';
import { repositoryNameSchema } from '../../oci/reference';
import { tagSchema } from '../../oci/tag';
import { attachedKey, type FactKey, type Facts } from '../facts';
import { recordType } from '../release-record';

/** What came along with a manifest: what refers to it, or stands under a tag for it. */
export const attachedSchema = z.array(
  z.object({
    repository: repositoryNameSchema,
    subject: digestSchema,
    referrers: z.array(z.object({ digest: digestSchema, type: z.string(), tag: tagSchema.optional() })),
  }),
);
export type Attached = z.infer<typeof attachedSchema>;

/** The facts that the fold of what came along reads. */
export function factsOfAttached(attached: Attached = []): FactKey[] {
  return attached.map(({ repository, subject }) => ({ kind: 'attached', key: attachedKey(repository, subject) }));
}

/** An image may be in any number of releases: so many of their records are kept in mind, the latest. */
const recordsKept = 32;

/** Folds in what came along. Under a tag there is one thing at a time. */
export function foldAttached(attached: Attached = [], before: Facts, after: Facts): void {
  for (const { repository, subject, referrers } of attached) {
    const key = attachedKey(repository, subject);
    const known = before.get('attached', key) ?? [];
    const replaced = (each: (typeof known)[number]): boolean =>
      referrers.some(({ digest, tag }) => digest === each.digest || (tag !== undefined && tag === each.tag));
    const all = [...known.filter((each) => !replaced(each)), ...referrers];
    const records = all.filter(({ type }) => type === recordType);
    const dropped = new Set(records.slice(0, Math.max(0, records.length - recordsKept)));
    after.set(
      'attached',
      key,
      all.filter((each) => !dropped.has(each)),
    );
  }
}
