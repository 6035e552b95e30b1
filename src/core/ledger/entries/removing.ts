import * as z from 'zod';
import { digestSchema } from '../../oci/digest';
import { repositoryNameSchema } from '../../oci/reference';
import { tagSchema } from '../../oci/tag';
import { removalKey, tagKey, type FactKey } from '../facts';
import { releaseIdSchema } from '../release';
import { defineAction } from './action';

/** Content that goes from a repository. */
export const removedContentFields = {
  repository: repositoryNameSchema,
  digest: digestSchema,
  components: z.array(z.string()),
  /** The releases that had it. */
  releases: z.array(releaseIdSchema),
  /** Why it goes where the ledger did not know it. */
  unknown: z.string().optional(),
};

const schema = z.object({
  kind: z.literal('removing'),
  /** The environments that had the content, and what they keep. */
  environments: z.array(z.object({ environment: z.string(), keep: z.string() })),
  contents: z.array(
    z.object({
      ...removedContentFields,
      /** Its fixed tags, and those that what refers to it stands under. */
      tags: z.array(tagSchema),
      /** Its manifests, and those of what refers to it, in the order in which they are removed. */
      manifests: z.array(digestSchema),
    }),
  ),
});
type Removing = z.infer<typeof schema>;

/**
 * Content is about to be removed from repositories. From here on nothing relies on it; the tags of it stand nowhere, and lead to
 * nothing else.
 */
export const removing = defineAction<Removing, typeof schema>('removing', {
  schema,
  reads: ({ contents }) =>
    contents.flatMap(({ repository, tags }) => [
      { kind: 'staged-in' as const, key: repository },
      ...tags.map((tag): FactKey => ({ kind: 'tag', key: tagKey(repository, tag) })),
    ]),
  fold({ environments, contents }, { seq, at, actor }, before, after) {
    const keep = environments.map((each) => `${each.environment} keeps ${each.keep}`).join('; ');
    for (const { repository, digest, tags, manifests, unknown = keep } of contents) {
      for (const each of new Set([digest, ...manifests])) {
        const removal = { state: 'removing', at, by: actor, keep: unknown, seq } as const;
        after.set('removal', removalKey(repository, each).key, removal);
      }
      for (const tag of tags) {
        const known = before.get('tag', tagKey(repository, tag));
        if (known?.kind === 'fixed') {
          after.set('tag', tagKey(repository, tag), { ...known, tidied: true, seq });
        }
      }
    }
    for (const repository of new Set(contents.map((each) => each.repository))) {
      const gone = new Set(contents.filter((each) => each.repository === repository).map(({ digest }) => digest));
      const staged = before.get('staged-in', repository) ?? [];
      if (staged.some(({ digest }) => gone.has(digest))) {
        after.set(
          'staged-in',
          repository,
          staged.filter(({ digest }) => !gone.has(digest)),
        );
      }
    }
  },
});
