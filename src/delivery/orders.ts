import type { CommitId } from '../core/commit';
import { compareVersions, isReleaseOn } from '../core/tags/version';
import { versionOfTag } from '../core/tags/version-tags';
import type { Config } from '../workspace/config';
import { CommitHistory, tagsUpTo } from '../workspace/git';
import type { Orders } from './delivery';
import type { RepositoryReader } from '../registry/ports';
import { highestTagged } from './provenance';

/** What git tells of the order of builds, where no next version is asked for. */
export function commitOrders(folder: string): Orders {
  const history = new CommitHistory(folder);
  return {
    around: (commit, others) => history.around(commit, others),
    highest: () => Promise.resolve(undefined),
  };
}

/** What git tells of the order of builds, and the registry and git of the highest version on a line. */
export function buildOrders(
  { folder, versionTags }: Pick<Config, 'folder' | 'versionTags'>,
  commit: CommitId,
  [first]: readonly { readonly target: RepositoryReader }[],
): Orders {
  return {
    ...commitOrders(folder),
    async highest(line) {
      const tagged = first && (await highestTagged(first.target, line));
      const released = (await tagsUpTo(folder, commit)).flatMap((name) => {
        const version = versionOfTag(versionTags, name);
        return version !== undefined && isReleaseOn(line, version) ? [version] : [];
      });
      return [...released, ...(tagged === undefined ? [] : [tagged])].sort(compareVersions).at(-1);
    },
  };
}
