import * as z from 'zod';
import { digestSchema } from '../../oci/digest';
import { noEvidence } from '../facts';
import { contentIdSchema, releaseIdSchema } from '../release';
import { defineAction } from './action';

const schema = z.object({
  kind: z.literal('signed-off'),
  /** The environment that the releases may enter. */
  environment: z.string(),
  /** The rules of the environment that signatures were made under. */
  rules: digestSchema.optional(),
  /** The issuer under `trust:` whose keys verified in that run which job says so. */
  issuer: z.string().optional(),
  releases: z.array(z.object({ release: releaseIdSchema, content: contentIdSchema, signature: z.string().optional() })),
});
type SignedOff = z.infer<typeof schema>;

/** Somebody says that releases may enter an environment. */
export const signedOff = defineAction<SignedOff, typeof schema>('signed-off', {
  schema,
  reads: ({ releases }) => releases.map(({ content }) => ({ kind: 'evidence', key: content })),
  fold({ environment, rules, issuer, releases }, { at, actor }, before, after) {
    for (const { content, signature } of releases) {
      const known = before.get('evidence', content) ?? noEvidence;
      const others = known.signOffs.filter((each) => each.by !== actor || each.environment !== environment);
      after.set('evidence', content, {
        ...known,
        signOffs: [...others, { environment, at, by: actor, signature, rules, issuer }],
      });
    }
  },
});
