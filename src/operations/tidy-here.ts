import { isLeftBehind, sumOwnFiles } from '../core/tidy/own-files';
import { toTidyHereResult, type TidyHereResult } from '../results/tidy-here';
import { configIfAny, type SessionOptions } from '../session/session';
import { readOwnFiles, readTemporaryFolders, removeOwnFiles } from '../workspace/own-files';
import { homeFolder, userFolder } from '../workspace/user-files';

/** What `tidy --here` is told. */
export interface TidyHereOptions extends Pick<SessionOptions, 'config'> {
  remove?: true | undefined;
}

/** Says what Hod keeps on this machine, and removes what nothing needs any more where that is asked for. */
export async function tidyHere(options: TidyHereOptions): Promise<TidyHereResult> {
  const config = await configIfAny(options);
  const now = Date.now();
  const files = [
    ...(config === undefined ? [] : await readOwnFiles({ of: 'product', folder: config.stateFolder })),
    ...(homeFolder() === undefined ? [] : await readOwnFiles({ of: 'user', folder: userFolder() })),
    ...(await readTemporaryFolders()),
  ];
  const dryRun = options.remove !== true;
  if (!dryRun) {
    await removeOwnFiles(files.filter((each) => isLeftBehind(each, now)));
  }
  return toTidyHereResult({ dryRun }, sumOwnFiles(files, now));
}
