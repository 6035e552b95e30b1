import { decideBuild, type Build, type BuildOptions } from '../../core/release/build';
import type { Observer } from '../../session/observer';
import { readGit } from '../../workspace/git';

/** What a build is, from the options, the working copy that `folder` is in, and the CI; told to the observer. */
export async function readBuild(
  folder: string,
  options: BuildOptions,
  observer: Pick<Observer, 'build'>,
): Promise<Build> {
  const { readCi } = await import('../../workspace/ci');
  const { build, details } = decideBuild({ options, ci: readCi(folder), git: await readGit(folder, options.commit) });
  observer.build(details);
  return build;
}
