import { shortCommit, type CommitId } from '../../commit';
import { versionNamed, type Version } from '../../tags/version';
import type { Build } from '../../build/build';
import { whyNotFollowed, type Following } from '../../build/following';
import type { Gate } from './gate';

/** What a component says of itself, in its annotations or else its labels. */
export interface Claim {
  /** How people name the component. */
  readonly label: string;
  readonly revision: string | undefined;
  readonly version: string | undefined;
}

/**
 * No component says that it was built from another commit, or as another version, than it is published
 * as: an old output under a new tag. What is not a commit id or a semantic version names neither.
 */
export function rightBuild(claims: readonly Claim[], commit: CommitId, version: Version | undefined): Gate {
  const gate = 'right-build';
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
  if (others.length === 0) {
    return { gate, outcome: 'met', detail: `no component names another commit than ${shortCommit(commit)}` };
  }
  return {
    gate,
    outcome: 'unmet',
    code: 'other-build',
    what: 'this is not the build that is published',
    object: version === undefined ? `the commit ${commit}` : `${version}, the commit ${commit}`,
    detail: [...new Set(others)],
    remedy:
      'build it again from what is published, or publish the commit that was built with --commit; labels that come from a base image must be set by the build',
  };
}

/** Asks what can be asked of a build before anything is looked at: whether it may have the version that it asks for. */
export function gatesOfBuild(build: Build, following: Following, environment: string): Gate[] {
  return [cleanForVersion(build), historyForNext(build), followedForVersion(build, following, environment)];
}

/** A build of a working copy with uncommitted changes gets no version: no commit holds it. */
function cleanForVersion({ dirty, version, commit }: Build): Gate {
  const gate = 'clean-working-copy';
  if (!dirty || version.kind === 'none') {
    return { gate, outcome: 'met', detail: dirty ? 'no version is asked for' : 'every change is committed' };
  }
  return {
    gate,
    outcome: 'unmet',
    code: 'dirty-working-copy',
    what: 'the working copy has uncommitted changes',
    object: version.kind === 'given' ? version.version : `the next ${version.part}`,
    ...dirtyWhy(commit),
  };
}

/** Versions are for builds of followed branches: what a pull request proposes is no release yet. */
function followedForVersion({ version, commit }: Build, following: Following, environment: string): Gate {
  const gate = 'followed';
  const why = version.kind === 'none' ? undefined : whyNotFollowed(following, { hasVersion: true, environment });
  if (version.kind === 'none' || why === undefined) {
    return {
      gate,
      outcome: 'met',
      detail: version.kind === 'none' ? 'no version is asked for' : 'its branch is followed',
    };
  }
  return {
    gate,
    outcome: 'unmet',
    code: 'not-followed',
    what: 'this build gets no version',
    object: `${version.kind === 'given' ? version.version : `the next ${version.part}`}, the commit ${commit}`,
    detail: why,
    remedy: remedyOf(following, environment),
  };
}

function remedyOf({ branches, branch, pullRequest }: Following, environment: string): string {
  const withoutVersion = 'or publish it without a version';
  if (!pullRequest && branch === undefined) {
    return `name its branch with --branch, or fetch it (\`git fetch\`); ${withoutVersion}`;
  }
  const merging = `merge the commit into ${branches[0] ?? ''} and publish it from there`;
  const following = pullRequest ? '' : `name its branch in \`follows\` of ${environment} in hod.yaml; `;
  return `${merging}; ${following}${withoutVersion}`;
}

/** The next version follows all that came before, which a shallow clone does not know. */
function historyForNext({ shallow, version, commit }: Build): Gate {
  const gate = 'whole-history';
  if (!shallow || version.kind !== 'next') {
    return { gate, outcome: 'met', detail: shallow ? 'no next version is asked for' : 'git has all of it' };
  }
  return {
    gate,
    outcome: 'unmet',
    code: 'order-unknown',
    what: 'a shallow clone cannot determine the next version',
    object: `the next ${version.part}, the commit ${commit}`,
    detail: 'it lacks older commits and their tags',
    remedy: '`git fetch --unshallow --tags`, or let the CI fetch the full history; or name the version with --version',
  };
}

/** What was built from a dirty working copy is not staged: another job would publish it as what the commit holds. */
export function cleanForStaging({ dirty, commit }: Build): Gate {
  const gate = 'clean-working-copy';
  if (!dirty) {
    return { gate, outcome: 'met', detail: 'every change is committed' };
  }
  return {
    gate,
    outcome: 'unmet',
    code: 'dirty-working-copy',
    what: 'the working copy has uncommitted changes',
    object: commit,
    ...dirtyWhy(commit),
  };
}

function dirtyWhy(commit: CommitId) {
  return {
    detail: `files were changed since the commit ${commit}, so no commit holds what was built`,
    remedy: 'commit the changes and build again; `git status` lists them',
  };
}

/** A build output is for the platform that was named, and for no other. */
export function namedPlatform(label: string, platforms: readonly string[], named: string | undefined): Gate {
  const gate = 'platform';
  if (named === undefined || (platforms.length === 1 && platforms[0] === named)) {
    return { gate, outcome: 'met', detail: named ?? 'none was named' };
  }
  return {
    gate,
    outcome: 'unmet',
    code: 'other-platform',
    what: 'this build output is for another platform',
    object: label,
    detail: `it is for ${platforms.join(', ') || 'none'}, and --platform says ${named}`,
    remedy: 'build it for that platform, or correct --platform',
  };
}
