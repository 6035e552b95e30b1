import { decideBuild, type Build, type BuildOptions } from '../core/release/build';
import { readGit } from '../workspace/git';
import type { Observer } from './session';

/** What a build is, from the options, the working copy that `folder` is in, and the CI; told to the observer. */
export async function readBuild(folder: string, options: BuildOptions, observer: Observer): Promise<Build> {
  const { readCi } = await import('../workspace/ci');
  const { build, facts } = decideBuild({ options, ci: readCi(folder), git: await readGit(folder, options.commit) });
  observer.build(facts);
  return build;
}
