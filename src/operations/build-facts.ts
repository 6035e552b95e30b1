import { HodError } from '../core/errors';
import { parseVersion, versionAmong, type Version } from '../core/tags/version';
import { readGit } from '../workspace/git';

/** What a build is published as. */
export interface BuildFacts {
  /** Full commit id. */
  commit: string;
  version: Version | undefined;
  branch: string | undefined;
  /** The day of the commit, UTC, `YYYYMMDD`; undefined where git does not know the commit. */
  date: string | undefined;
}

/** What the user said about the build; it goes before what git says. */
export interface BuildOptions {
  commit?: string | undefined;
  version?: string | undefined;
  branch?: string | undefined;
}

/**
 * What is published: from the options, else from the working copy that `folder` is in. A version is
 * taken from a git tag of the commit (`v2.4.0` or `2.4.0`). Throws `usage` where no commit is known.
 */
export async function readBuildFacts(folder: string, options: BuildOptions): Promise<BuildFacts> {
  const git = await readGit(folder, options.commit);
  const commit = git?.commit ?? options.commit;
  if (commit === undefined) {
    throw new HodError('usage', {
      what: 'it is not known which commit this build is from',
      object: folder,
      why: 'git is not installed, this is not a working copy, or it has no commit',
      next: 'run hod in the working copy, or name the commit with --commit',
    });
  }
  if (!/^(?:[0-9a-f]{40}|[0-9a-f]{64})$/.test(commit)) {
    throw new HodError('usage', {
      what: 'this is not a commit',
      object: commit,
      why: 'git does not know it here, and it is not a full commit id',
      next: 'give the full id: 40 or 64 lower-case hexadecimal digits',
    });
  }
  return {
    commit,
    version: options.version === undefined ? versionAmong(git?.tags ?? []) : parseVersion(options.version),
    branch: options.branch ?? git?.branch,
    date: git?.date,
  };
}
