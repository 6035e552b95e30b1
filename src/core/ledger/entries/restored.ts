import * as z from 'zod';
import { digestSchema } from '../../oci/digest';
import { repositoryNameSchema } from '../../oci/reference';
import { tagSchema } from '../../oci/tag';
import { tagKinds } from '../../tags/rules';
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

/** Tags of an environment that stood elsewhere than the ledger says were put right. It changes nothing that the ledger says. */
export const restored = defineAction<Restored, typeof schema>('restored', {
  schema,
  reads: () => [],
  fold() {
    // What the tags lead to was decided before.
  },
});
