import { configsMatching, isPattern } from '../workspace/config-pattern';

/**
 * Finds the files that `--config` names, in the order of their names; undefined where it is the path of one file.
 *
 * @throws {@link HodError} `config-missing` where a pattern matches none.
 */
export async function configsNamed(text: string): Promise<readonly string[] | undefined> {
  return isPattern(text) ? configsMatching(text) : undefined;
}
