import * as z from 'zod';
import { digestSchema } from '../../oci/digest';
import { compactedKey } from '../facts';
import { defineAction } from './action';

const schema = z.object({
  kind: z.literal('compacted'),
  /** The file that holds their texts by now, and the digest of its bytes. */
  file: z.string(),
  digest: digestSchema,
  /** How many entries it holds. */
  entries: z.number().int().positive(),
  /** Of every entry that was ever compacted: how many there are, the number of the last, and the digest of their hashes. */
  total: z.number().int().positive(),
  through: z.number().int().positive(),
  hashes: digestSchema,
});
type Compacted = z.infer<typeof schema>;

/**
 * The texts of earlier entries were moved from the ledger into a file. Their hashes stay, so that the chain is whole, and this entry
 * vouches for them.
 */
export const compacted = defineAction<Compacted, typeof schema>('compacted', {
  schema,
  reads: () => [compactedKey],
  fold({ file, digest, entries, total, through, hashes }, { at, actor }, before, after) {
    const files = before.get('compacted', compactedKey.key)?.files ?? [];
    after.set('compacted', compactedKey.key, {
      ...{ total, through, hashes },
      files: [...files, { file, digest, entries, at, by: actor }],
    });
  },
});
