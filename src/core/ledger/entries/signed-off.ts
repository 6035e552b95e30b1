import * as z from 'zod';
import { noEvidence } from '../facts';
import { contentIdSchema, releaseIdSchema } from '../release';
import { defineAction } from './action';

const schema = z.object({
  kind: z.literal('signed-off'),
  /** The environment that the releases may enter. */
  environment: z.string(),
  releases: z.array(z.object({ release: releaseIdSchema, content: contentIdSchema })),
});
type SignedOff = z.infer<typeof schema>;

/** Somebody says that releases may enter an environment. */
export const signedOff = defineAction<SignedOff, typeof schema>('signed-off', {
  schema,
  reads: ({ releases }) => releases.map(({ content }) => ({ kind: 'evidence', key: content })),
  fold({ environment, releases }, { at, actor }, before, after) {
    for (const { content } of releases) {
      const known = before.get('evidence', content) ?? noEvidence;
      const others = known.signOffs.filter((each) => each.by !== actor || each.environment !== environment);
      after.set('evidence', content, { ...known, signOffs: [...others, { environment, at, by: actor }] });
    }
  },
});
