import * as z from 'zod';
import { commitSchema } from '../../commit';
import { digestSchema } from '../../oci/digest';
import { versionSchema } from '../../tags/version';
import { baseKey } from '../facts';
import { defineAction } from './action';

const schema = z.object({
  kind: z.literal('base-moved'),
  environment: z.string(),
  bases: z.array(
    z.object({
      component: z.string(),
      version: versionSchema.optional(),
      commit: commitSchema,
      platform: z.string(),
      /** The reference that the image names as its base. */
      name: z.string(),
      /** The digest when the image was built, and the one that the name leads to now; null where it leads to none. */
      was: digestSchema,
      is: digestSchema.nullable(),
    }),
  ),
});
type BaseMoved = z.infer<typeof schema>;

/** Images that an environment serves were built on a base whose name leads elsewhere now. It is kept so that it is told once. */
export const baseMoved = defineAction<BaseMoved, typeof schema>('base-moved', {
  schema,
  reads: () => [],
  fold({ environment, bases }, _circumstances, _before, after) {
    for (const { component, platform, name, was, is } of bases) {
      after.set('base', baseKey({ environment, component, platform, name }), { was, is });
    }
  },
});
