import * as z from 'zod';
import { digestSchema } from '../../oci/digest';
import { repositoryNameSchema } from '../../oci/reference';
import { tagSchema } from '../../oci/tag';
import { tagKinds } from '../../tags/rules';
import { earlierThan, tagKey, type FactKey } from '../facts';
import { defineAction } from './action';

const schema = z.object({
  kind: z.literal('restored'),
  environment: z.string(),
  /** The tags, where each stood, and where it belongs by the entries before; null where nothing was, or is to be. */
  tags: z.array(
    z.object({
      component: z.string(),
      repository: repositoryNameSchema,
      tag: tagSchema,
      kind: z.enum(tagKinds),
      was: digestSchema.nullable(),
      is: digestSchema.nullable(),
    }),
  ),
});
type Restored = z.infer<typeof schema>;

/**
 * Tags of an environment that stood elsewhere than the ledger says were put right. What they lead to was decided before, but for
 * one that is gone: where it could not be removed, it may lead to something else now.
 */
export const restored = defineAction<Restored, typeof schema>('restored', {
  schema,
  reads: ({ tags }) => tags.map(({ repository, tag }): FactKey => ({ kind: 'tag', key: tagKey(repository, tag) })),
  fold({ tags }, { seq }, before, after) {
    for (const { repository, tag, is } of tags) {
      const key = tagKey(repository, tag);
      const known = before.get('tag', key);
      if (known?.gone === true && is !== null) {
        const earlier = earlierThan(known.digest, known, [known.instead]);
        after.set('tag', key, { ...known, ...earlier, instead: is, seq });
      }
    }
  },
});
