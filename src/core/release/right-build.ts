import { HodError } from '../errors';
import { versionNamed, type Version } from '../tags/version';

/** What an image says of itself, in its annotations or else its labels. */
export interface Claim {
  /** How people name the image. */
  readonly label: string;
  readonly revision: string | undefined;
  readonly version: string | undefined;
}

/**
 * Throws `refused` where an image says that it was built from another commit, or as another version,
 * than it is published as: an old output under a new tag. What is not a commit id or a semantic
 * version names neither, and is passed over.
 */
export function refuseOtherBuilds(claims: readonly Claim[], commit: string, version: Version | undefined): void {
  const others = claims.flatMap(({ label, revision, version: named }) => {
    const problems: string[] = [];
    const id = /^([0-9a-f]{7,64})(-dirty)?$/.exec(revision ?? '')?.[1];
    if (id !== undefined && !commit.startsWith(id)) {
      problems.push(`${label} was built from the commit ${id}`);
    }
    const bare = versionNamed(named ?? '');
    if (version !== undefined && bare !== undefined && bare !== version) {
      problems.push(`${label} calls itself ${bare}`);
    }
    return problems;
  });
  if (others.length > 0) {
    const name = version === undefined ? `the commit ${commit}` : `${version}, the commit ${commit}`;
    throw new HodError('refused', {
      what: 'this is not the build that is published',
      object: name,
      why: [...new Set(others)].join('\n'),
      next: 'build it again from what is published, or publish the commit that was built with --commit; labels that come from a base image must be set by the build',
    });
  }
}
