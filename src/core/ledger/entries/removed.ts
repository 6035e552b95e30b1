import * as z from 'zod';
import { digestSchema } from '../../oci/digest';
import { tagSchema } from '../../oci/tag';
import type { RepositoryName } from '../../oci/reference';
import { removalKey, tagKey, type FactKey } from '../facts';
import { defineAction } from './action';
import { removedContentFields } from './removing';
import { foldTagAgain } from './there-again';

const schema = z.object({
  kind: z.literal('removed'),
  /** The entry that says what was to be removed. */
  claim: z.number().int(),
  environments: z.array(z.object({ environment: z.string(), keep: z.string() })),
  contents: z.array(
    z.object({
      ...removedContentFields,
      /** The manifests that are gone, and those that the registry has still. */
      removed: z.array(digestSchema),
      left: z.array(digestSchema),
      /** The tags that stand there still. */
      tags: z.array(tagSchema),
      /** Why something is left. */
      why: z.string().optional(),
    }),
  ),
});
type Removed = z.infer<typeof schema>;

/** Content was removed from repositories, as far as their registries let it go. */
export const removed = defineAction<Removed, typeof schema>('removed', {
  schema,
  reads: ({ contents }) =>
    contents.flatMap(({ repository, removed: gone, left, tags }) => [
      { kind: 'tidied' as const, key: repository },
      ...[...gone, ...left].map((digest) => removalKey(repository, digest)),
      ...tags.map((tag): FactKey => ({ kind: 'tag', key: tagKey(repository, tag) })),
    ]),
  fold({ contents }, { seq, at, actor }, before, after) {
    const counts = new Map<RepositoryName, number>();
    for (const { repository, digest: root, removed: gone, left, tags } of contents) {
      for (const digest of gone) {
        const { key } = removalKey(repository, digest);
        const keep = before.get('removal', key)?.keep ?? '';
        after.set('removal', key, { state: 'removed', at, by: actor, keep, seq });
        if (digest === root) {
          const count = (counts.get(repository) ?? 0) + 1;
          counts.set(repository, count);
          const digests = (before.get('tidied', repository)?.digests ?? 0) + count;
          after.set('tidied', repository, { digests, at, by: actor, keep });
        }
      }
      left.forEach((digest) => after.set('removal', removalKey(repository, digest).key, null));
      tags.forEach((tag) => foldTagAgain({ repository, tag }, seq, before, after));
    }
  },
});
