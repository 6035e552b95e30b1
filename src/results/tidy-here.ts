import * as z from 'zod';
import { ownKinds, type OwnFiles } from '../core/tidy/own-files';

const counted = z.strictObject({ files: z.number().int(), bytes: z.number().int() });

export const tidyHereResultSchema = z.strictObject({
  /** True where nothing was removed: the document says what would go. */
  dryRun: z.boolean(),
  /** What Hod keeps beside hod.yaml, for this user, and in the system's temporary folder. */
  kept: z.array(
    z.strictObject({
      /**
       * `ledger`: the record, which this never removes; `uploads`: where interrupted uploads resume; `git`: what was fetched of a
       * ledger in git; `contents`: what was read of layers; `user`: logins, and how registries behave; `unfinished` and
       * `temporary`: files of runs that were killed, there and in the system's temporary folder; `other`: any other file.
       */
      kind: z.enum(ownKinds),
      place: z.string(),
      files: z.number().int(),
      bytes: z.number().int(),
      /** What nothing needs any more. */
      goes: counted,
    }),
  ),
});
export type TidyHereResult = z.infer<typeof tidyHereResultSchema>;

/** What Hod keeps on this machine, as a document. */
export function toTidyHereResult(about: Pick<TidyHereResult, 'dryRun'>, kept: readonly OwnFiles[]): TidyHereResult {
  return { ...about, kept: kept.map((each) => ({ ...each, goes: { ...each.goes } })) };
}
