import * as z from 'zod';
import { kindOf } from '../core/oci/bundle';
import type { ContentNode } from '../core/oci/content';
import { typeOf } from '../core/oci/referrers';
import { digest } from './common';

export const unpackResultSchema = z.strictObject({
  /** The folder that was written. */
  folder: z.string(),
  /** True where nothing was written: the document says what would have been. */
  dryRun: z.boolean(),
  /** `unchanged`: the folder held these files already. */
  outcome: z.enum(['written', 'unchanged']),
  contents: z.array(
    z.strictObject({
      /** Its component, whose name the folder of its files has; null where an artifact was named itself. */
      component: z.string().nullable(),
      kind: z.enum(['bundle', 'artifact']),
      artifactType: z.string().nullable(),
      digest,
      /** How many files it holds, and their bytes. */
      files: z.number().int(),
      size: z.number().int(),
    }),
  ),
});
export type UnpackResult = z.infer<typeof unpackResultSchema>;

/** What was unpacked, or would be, as a document. */
export function toUnpackResult(
  about: Pick<UnpackResult, 'folder' | 'dryRun' | 'outcome'>,
  contents: readonly { component: string | undefined; node: ContentNode; files: number; size: number }[],
): UnpackResult {
  return {
    ...about,
    contents: contents.map(({ component = null, node: { manifest }, files, size }) => {
      const kind = kindOf(manifest) === 'bundle' ? 'bundle' : 'artifact';
      const artifactType = kind === 'bundle' ? null : typeOf(manifest);
      return { component, kind, artifactType, digest: manifest.digest, files, size };
    }),
  };
}
