import * as z from 'zod';
import { tagKey, type FactKey } from '../facts';
import { placedComponentSchema, releaseIdSchema, setTagSchema } from '../release';
import { defineAction } from './action';
import { factsOfRemovals, foldTagAgain, foldThereAgain } from './there-again';

const schema = z.object({
  kind: z.literal('returned'),
  environment: z.string(),
  release: releaseIdSchema,
  components: z.array(placedComponentSchema),
  /** Its fixed tags. */
  tags: z.array(setTagSchema),
});
type Returned = z.infer<typeof schema>;

/** What tidying had removed of a release is there again. It came in before; nothing else changes. */
export const returned = defineAction<Returned, typeof schema>('returned', {
  schema,
  reads: ({ components, tags }) => [
    ...factsOfRemovals(components),
    ...tags.map(({ repository, tag }): FactKey => ({ kind: 'tag', key: tagKey(repository, tag) })),
  ],
  fold({ components, tags }, { seq }, before, after) {
    foldThereAgain(components, before, after);
    tags
      .filter(({ repository, tag, digest }) => before.get('tag', tagKey(repository, tag))?.digest === digest)
      .forEach((each) => foldTagAgain(each, seq, before, after));
  },
});
