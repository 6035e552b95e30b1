import { isCommitId, notACommit, type CommitId } from '../commit';
import { HodError } from '../errors';
import { everyVersion, parseLine, parseVersion, type VersionLine } from '../tags/version';
import type { VersionPart } from '../tags/version-part';
import { highestVersionOf, nearVersionTags, type VersionTags } from '../tags/version-tags';
import { dayOf, type Timestamp } from '../time';
import type { CiFacts } from './ci-facts';
import { noVersion, type VersionRequest } from './version-request';

/** Something that is known about a build, and who says so. */
interface Sourced<T> {
  readonly value: T;
  readonly source: string;
}

/** What is published, as far as it is known before the ledger is read. */
export interface Build {
  readonly commit: CommitId;
  readonly branch: string | undefined;
  /** The CI builds what a pull request would become, or comes from. */
  readonly pullRequest: boolean;
  /** The number that the CI gave to it. */
  readonly number: string | undefined;
  /** Where its run can be looked at. */
  readonly run: string | undefined;
  /** The day of the commit, UTC, `YYYYMMDD`; undefined where git does not know the commit. */
  readonly date: string | undefined;
  /** The working copy held changes that no commit has. */
  readonly dirty: boolean;
  /** The clone lacks older commits, and perhaps tags. */
  readonly shallow: boolean;
  readonly version: VersionRequest;
}

/** A line about the build, for people: what is known, and who says so. */
export interface BuildDetail {
  readonly name: string;
  /** Undefined where it is not known; `source` says why. */
  readonly value: string | undefined;
  readonly source: string;
}

/** What the user says about a build; it goes before what the CI and git say. */
export interface BuildOptions {
  commit?: string | undefined;
  branch?: string | undefined;
  build?: string | undefined;
  run?: string | undefined;
  version?: string | undefined;
  next?: VersionPart | undefined;
  line?: string | undefined;
}

/** Who says what about a build. */
export interface BuildSources {
  readonly options: BuildOptions;
  /** How git tags name versions. */
  readonly versionTags: VersionTags;
  readonly ci: CiFacts | undefined;
  /** What git says of the commit that was named, or that is checked out; or why it says nothing. */
  readonly git:
    | {
        readonly commit: {
          readonly id: CommitId;
          readonly branch: string | undefined;
          readonly tags: readonly string[];
          readonly time: Timestamp | undefined;
          readonly dirty: boolean;
          readonly shallow: boolean;
        };
        /** Whether the branch that the CI names contains that commit; asked for where the CI names another commit. */
        readonly onBranchOfCi?: boolean;
      }
    | { readonly gap: string };
}

/**
 * Decides what a build is, from what the user, the working copy and the CI say, in this order; a
 * branch rather from the CI, whose jobs often work on a detached head.
 *
 * Throws `usage` where no commit is known, or two versions are asked for.
 */
export function decideBuild(sources: BuildSources): { build: Build; details: BuildDetail[] } {
  const { options, ci } = sources;
  const git = 'commit' in sources.git ? sources.git.commit : undefined;
  const gap = 'gap' in sources.git ? sources.git.gap : undefined;
  const choose = (...candidates: [string, string | undefined][]): Sourced<string> | undefined => {
    const [source, value] = candidates.find((each) => each[1] !== undefined) ?? [];
    return source === undefined || value === undefined ? undefined : { source, value };
  };
  const commit = choose(
    [options.commit === undefined ? 'git' : '--commit', git?.id],
    ['--commit', options.commit],
    ['the CI', ci?.commit],
  );
  const checked = checkCommit(commit, gap);
  const sameCommit = ci?.commit === undefined || ci.commit === checked.value;
  const pullRequest = ci?.pullRequest === true;
  // What the CI says of a branch is about the commit that it builds, and about others that are on it.
  const ofCi = pullRequest || sameCommit || ('commit' in sources.git && sources.git.onBranchOfCi === true);
  const branch = choose(
    // The build of a pull request is that, whatever its pipeline calls it.
    ['--branch', pullRequest ? undefined : options.branch],
    ['the CI', ofCi ? ci?.branch : undefined],
    // A build of a tag is of no branch, whatever else stands at its commit.
    ['git', ci?.tag !== undefined && sameCommit ? undefined : git?.branch],
  );
  const number = choose(['--build', options.build], ['the CI', ci?.build]);
  const run = choose(['--run-url', options.run], ['the CI', ci?.run]);
  const dirty = git?.dirty === true;
  const tags = [...(git?.tags ?? []), ...(ci?.tag !== undefined && sameCommit ? [ci.tag] : [])];
  // Anybody may push a tag to the branch of a pull request.
  const version = requestVersion(options, pullRequest ? [] : tags, sources.versionTags);
  const build = {
    commit: checked.value,
    branch: branch?.value,
    pullRequest,
    number: number?.value,
    run: run?.value,
    date: git?.time && dayOf(git.time),
    dirty,
    shallow: git?.shallow === true,
    version,
  };
  return { build, details: detailsOf(sources, build, { commit: checked, branch, number, run, tags }) };
}

/** Lines about a build: what is known, and who says so. */
function detailsOf(
  sources: BuildSources,
  { version, dirty, shallow }: Build,
  {
    commit,
    branch,
    number,
    run,
    tags,
  }: { [K in 'commit' | 'branch' | 'number' | 'run']: Sourced<string> | undefined } & {
    tags: readonly string[];
  },
): BuildDetail[] {
  const { ci } = sources;
  const git = 'commit' in sources.git ? sources.git.commit : undefined;
  const tagGap = shallow ? ', and a shallow clone may lack it: `git fetch --tags`' : '';
  const unknown = 'gap' in sources.git ? sources.git.gap : 'no option, CI variable or git checkout says so';
  const detail = (name: string, found: Sourced<string> | undefined, why = unknown): BuildDetail =>
    found === undefined ? { name, value: undefined, source: why } : { name, ...found };
  const said = (value: string | undefined, source: string) => (value === undefined ? undefined : { value, source });
  const near = version.kind === 'none' ? version.near : [];
  return [
    detail('commit', commit),
    detail('committed', said(git?.time, 'git')),
    detail('pull request', ci && { value: ci.pullRequest ? 'yes' : 'no', source: 'the CI' }),
    detail('branch', branch, git === undefined ? unknown : 'a detached head, and neither an option nor the CI says'),
    detail('git tags', said(tags.length === 0 ? undefined : tags.join(' '), 'git'), `none at the commit${tagGap}`),
    detail('dirty', git && { value: dirty ? 'yes' : 'no', source: 'git' }),
    detail('build', number),
    detail('run', run),
    detail('version', describeRequest(version), `none is asked for, and ${noVersion(near)}${tagGap}`),
  ];
}

function describeRequest(version: VersionRequest): Sourced<string> | undefined {
  switch (version.kind) {
    case 'none':
      return undefined;
    case 'given':
      return { value: version.version, source: version.source };
    case 'next':
      return {
        value: `the next ${version.part}${version.line === everyVersion ? '' : ` of ${version.line}`}`,
        source: '--next',
      };
  }
}

function requestVersion(
  { version, next, line }: BuildOptions,
  tags: readonly string[],
  rule: VersionTags,
): VersionRequest {
  if (version !== undefined && next !== undefined) {
    throw new HodError('options-conflict', {
      what: 'two versions are asked for',
      object: `--version ${version} --next ${next}`,
      why: 'one is given, the other is taken from the ledger',
      next: 'use one of them',
    });
  }
  if (line !== undefined && next === undefined) {
    throw new HodError('options-conflict', {
      what: '--line needs --next',
      object: `--line ${line}`,
      why: 'it says of which line of versions the next one is taken',
      next: 'add --next patch, or name the version with --version',
    });
  }
  if (line !== undefined && next !== undefined && isCoarser(next, parseLine(line))) {
    throw new HodError('options-conflict', {
      what: 'this version would leave its line',
      object: `--line ${line} --next ${next}`,
      why: `the next ${next} after one of ${line} is not on ${line} any more`,
      next: 'ask for --next patch, or for the next version of all with no --line',
    });
  }
  if (next !== undefined) {
    return { kind: 'next', part: next, line: line === undefined ? everyVersion : parseLine(line) };
  }
  if (version !== undefined) {
    return { kind: 'given', version: parseVersion(version), source: '--version' };
  }
  const tagged = highestVersionOf(rule, tags);
  return tagged === undefined
    ? { kind: 'none', near: nearVersionTags(rule, tags) }
    : { kind: 'given', version: tagged, source: 'the git tag' };
}

/** Whether the next version of a part is never on a line that the one before is on. */
function isCoarser(part: VersionPart, line: VersionLine): boolean {
  const allowed: readonly VersionPart[] = line.includes('.') ? ['patch'] : ['minor', 'patch'];
  return !allowed.includes(part);
}

function checkCommit(commit: Sourced<string> | undefined, gap: string | undefined): Sourced<CommitId> {
  if (commit === undefined) {
    throw new HodError('commit-unknown', {
      what: 'the commit of this build is unknown',
      object: 'this build',
      why: gap ?? 'no option, CI variable or git checkout says so',
      next: 'run hod in the working copy, or name the commit with --commit',
    });
  }
  if (!isCommitId(commit.value)) {
    throw notACommit(commit.value, gap);
  }
  return { value: commit.value, source: commit.source };
}
