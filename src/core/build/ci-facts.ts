/** What the environment of a CI job says about the build. */
export interface CiFacts {
  /** Full commit id. */
  readonly commit: string | undefined;
  /**
   * The branch that was built. A pull request has a name of its own, such as `pr-12`, whatever its branch is called: its
   * author chose that, and `main` of a fork is not main.
   */
  readonly branch: string | undefined;
  /** The git tag that was built. */
  readonly tag: string | undefined;
  /** The number that the CI gave to the build. */
  readonly build: string | undefined;
  /** Where the run can be looked at. */
  readonly run: string | undefined;
  /** It builds a pull request. */
  readonly pullRequest: boolean;
}

/** What is read from the variables of a CI, before it is put right. */
export interface CiReading {
  /** Which CI it is, in a word. */
  readonly service: string;
  readonly commit?: string | undefined;
  readonly branch?: string | undefined;
  /** The number of a pull request, and the branch that it comes from. */
  readonly pr?: string | undefined;
  readonly prBranch?: string | undefined;
  readonly tag?: string | undefined;
  readonly build?: string | undefined;
  readonly run?: string | undefined;
  readonly isPr: boolean;
}

/** Reads a variable; undefined where it is not set, or empty. */
type Variable = (name: string) => string | undefined;

/**
 * What single CIs say elsewhere than the package that reads them looks, each by the public documentation
 * of its variables.
 */
const elsewhere: ReadonlyMap<string, (of: Variable) => Partial<CiReading>> = new Map([
  // The reference is that of the merge; the branch that it comes from has a variable of its own.
  [
    'github',
    (of: Variable) => ({
      prBranch: of('GITHUB_HEAD_REF'),
      pr: /^refs\/pull\/(\d+)\//.exec(of('GITHUB_REF') ?? '')?.[1],
    }),
  ],
  // People see the number within the project, not that within the whole server.
  ['gitlab', (of: Variable) => ({ pr: of('CI_MERGE_REQUEST_IID') })],
  // A job of many branches calls a change by its number, and a tag a branch.
  [
    'jenkins',
    (of: Variable) => ({
      tag: of('TAG_NAME'),
      prBranch: of('CHANGE_BRANCH') ?? of('ghprbSourceBranch') ?? of('gitlabSourceBranch'),
      pr: of('CHANGE_ID') ?? of('ghprbPullId') ?? of('gitlabMergeRequestIid'),
    }),
  ],
  [
    'bitbucket',
    (of: Variable) => ({
      isPr: of('BITBUCKET_PR_ID') !== undefined,
      pr: of('BITBUCKET_PR_ID'),
      prBranch: of('BITBUCKET_BRANCH'),
    }),
  ],
  // Its clones have no branch; what started the build has.
  [
    'codebuild',
    (of: Variable) => ({
      isPr: of('CODEBUILD_WEBHOOK_TRIGGER')?.startsWith('pr/') === true,
      pr: /^pr\/(.+)$/.exec(of('CODEBUILD_WEBHOOK_TRIGGER') ?? '')?.[1],
      prBranch: of('CODEBUILD_WEBHOOK_HEAD_REF'),
      ...(of('CODEBUILD_WEBHOOK_HEAD_REF') !== undefined && { branch: of('CODEBUILD_WEBHOOK_HEAD_REF') }),
      ...(of('CODEBUILD_WEBHOOK_TRIGGER')?.startsWith('tag/') === true && {
        tag: of('CODEBUILD_WEBHOOK_TRIGGER')?.slice('tag/'.length),
      }),
    }),
  ],
]);

/**
 * What a CI says of a build, put right: a branch is the name of a branch, and never a reference, that of a
 * remote, or what a pull request would become; a build of a tag has no branch.
 */
export function ciFacts(reading: CiReading, variable: Variable): CiFacts {
  const told = Object.entries(elsewhere.get(reading.service)?.(variable) ?? {}).filter(
    ([, value]) => value !== undefined,
  );
  const { commit, branch, pr, prBranch, tag, build, run, isPr }: CiReading = {
    ...reading,
    ...Object.fromEntries(told),
  };
  const named = tagOf(tag) ?? tagOf(branch, 'refs/tags/');
  return {
    commit,
    branch: isPr ? nameOfPullRequest(pr, prBranch) : named === undefined ? branchOf(branch) : undefined,
    tag: isPr ? undefined : named,
    build,
    // A CI that lacks a variable makes an address of the rest.
    run: run !== undefined && /^https?:\/\//.test(run) ? run : undefined,
    pullRequest: isPr,
  };
}

/** What the builds of a pull request go by: its number, or what its branch is called where no number is known. */
function nameOfPullRequest(number: string | undefined, branch: string | undefined): string {
  return `pr-${number ?? branchOf(branch) ?? 'unknown'}`;
}

/** The name of a tag, without what leads to it. `prefix`: what it must begin with. */
function tagOf(name: string | undefined, prefix = ''): string | undefined {
  return name?.startsWith(prefix) === true && name !== '' ? name.replace(/^refs\/tags\//, '') : undefined;
}

/** Names that CIs give where they know no branch. */
const noBranch =
  /^$|^HEAD$|^detached|^<default>$|^refs\/|^(pull|pulls|merge-requests|pull-requests)\/\d+|^PR-\d+$|^\d+\/merge$/;

/** The name of a branch, without what leads to it; undefined for what is none. */
function branchOf(name: string | undefined): string | undefined {
  const bare = name?.replace(/^refs\/heads\//, '').replace(/^(refs\/remotes\/|remotes\/)?origin\//, '');
  return bare === undefined || noBranch.test(bare) ? undefined : bare;
}
