import type { CommitId } from '../../core/commit';
import type { CiFacts } from '../../core/build/ci-facts';
import { decideBuild, type Build, type BuildOptions } from '../../core/build/build';
import type { Observer } from '../../session/observer';
import type { Config } from '../../workspace/config';
import { branchesWith, readGit } from '../../workspace/git';

/** Whether a commit is on the branch that the CI names, where the CI builds another commit. */
async function isOnBranch(folder: string, commit: CommitId, ci: CiFacts | undefined): Promise<boolean> {
  const asks = ci?.branch !== undefined && ci.commit !== undefined && ci.commit !== commit;
  return asks && (await branchesWith(folder, commit)).includes(ci.branch);
}

/** What a build is, from the options, the working copy of a product, and the CI; told to the observer. And which commit is checked out. */
export async function readBuild(
  { folder, versionTags }: Pick<Config, 'folder' | 'versionTags'>,
  options: BuildOptions,
  observer: Pick<Observer, 'build'>,
): Promise<{ readonly build: Build; readonly head: CommitId | undefined }> {
  const { readCi } = await import('../../workspace/ci');
  const ci = readCi(folder);
  const git = await readGit(folder, options.commit);
  const { build, details } = decideBuild({
    options,
    versionTags,
    ci,
    git: 'commit' in git ? { ...git, onBranchOfCi: await isOnBranch(folder, git.commit.id, ci) } : git,
  });
  observer.build(details);
  return { build, head: git.head };
}
