import { decideBuild, type Build, type BuildOptions } from '../../core/release/build';
import type { Observer } from '../../session/observer';
import type { Config } from '../../workspace/config';
import { readGit } from '../../workspace/git';

/** What a build is, from the options, the working copy of a product, and the CI; told to the observer. */
export async function readBuild(
  { folder, versionTags }: Pick<Config, 'folder' | 'versionTags'>,
  options: BuildOptions,
  observer: Pick<Observer, 'build'>,
): Promise<Build> {
  const { readCi } = await import('../../workspace/ci');
  const { build, details } = decideBuild({
    options,
    versionTags,
    ci: readCi(folder),
    git: await readGit(folder, options.commit),
  });
  observer.build(details);
  return build;
}
