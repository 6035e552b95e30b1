import { hod } from '../support/hod';
import { sandboxWorld, type SandboxWorld } from '../support/world';

let sandbox: SandboxWorld;
beforeAll(async () => (sandbox = await sandboxWorld()));
afterAll(() => sandbox.close());

/** What the program says that it builds. */
interface Told {
  branch?: string;
  tag?: string;
  pullRequest?: boolean;
}

const github = { GITHUB_ACTIONS: 'true', GITHUB_REPOSITORY: 'skerry/line' };
const gitlab = { GITLAB_CI: 'true', CI_PIPELINE_ID: '7' };
const jenkins = { JENKINS_URL: 'https://ci.test/', BUILD_NUMBER: '7' };
const azure = { TF_BUILD: 'True', BUILD_BUILDURI: 'vstfs:///Build/Build/7' };
const bitbucket = { BITBUCKET_BUILD_NUMBER: '7' };
const circle = { CIRCLECI: 'true', CIRCLE_BUILD_NUM: '7' };
const buildkite = { BUILDKITE: 'true', BUILDKITE_BUILD_NUMBER: '7' };
const travis = { TRAVIS: 'true' };
const drone = { DRONE: 'true' };
const woodpecker = { CI: 'woodpecker' };
const codebuild = { CODEBUILD_BUILD_ID: 'skerry:7' };
const teamcity = { TEAMCITY_VERSION: '2026.1' };

/** Each row as the public documentation of the variables of a CI has it. */
const table: [event: string, variables: Record<string, string>, told: Told][] = [
  ['github, a push', { ...github, GITHUB_EVENT_NAME: 'push', GITHUB_REF: 'refs/heads/main' }, { branch: 'main' }],
  [
    'github, a push to a branch in folders',
    { ...github, GITHUB_EVENT_NAME: 'push', GITHUB_REF: 'refs/heads/release/2.4' },
    { branch: 'release/2.4' },
  ],
  ['github, a tag', { ...github, GITHUB_EVENT_NAME: 'push', GITHUB_REF: 'refs/tags/v2.5.0' }, { tag: 'v2.5.0' }],
  [
    'github, a pull request',
    {
      ...github,
      GITHUB_EVENT_NAME: 'pull_request',
      GITHUB_REF: 'refs/pull/5/merge',
      GITHUB_HEAD_REF: 'winter',
      GITHUB_BASE_REF: 'main',
    },
    { branch: 'pr-5', pullRequest: true },
  ],
  [
    'github, a merge queue',
    { ...github, GITHUB_EVENT_NAME: 'merge_group', GITHUB_REF: 'refs/heads/queue/main/pr-5' },
    { branch: 'queue/main/pr-5' },
  ],
  [
    'github, a schedule',
    { ...github, GITHUB_EVENT_NAME: 'schedule', GITHUB_REF: 'refs/heads/main' },
    { branch: 'main' },
  ],
  [
    'github, by hand on a tag',
    { ...github, GITHUB_EVENT_NAME: 'workflow_dispatch', GITHUB_REF: 'refs/tags/v2.5.0' },
    { tag: 'v2.5.0' },
  ],
  ['gitlab, a push', { ...gitlab, CI_COMMIT_REF_NAME: 'main', CI_COMMIT_BRANCH: 'main' }, { branch: 'main' }],
  ['gitlab, a tag', { ...gitlab, CI_COMMIT_REF_NAME: 'v2.5.0', CI_COMMIT_TAG: 'v2.5.0' }, { tag: 'v2.5.0' }],
  [
    'gitlab, a merge request',
    {
      ...gitlab,
      CI_COMMIT_REF_NAME: 'refs/merge-requests/5/head',
      CI_MERGE_REQUEST_ID: '5',
      CI_MERGE_REQUEST_SOURCE_BRANCH_NAME: 'winter',
      CI_MERGE_REQUEST_TARGET_BRANCH_NAME: 'main',
    },
    { branch: 'pr-5', pullRequest: true },
  ],
  ['gitlab, a schedule', { ...gitlab, CI_PIPELINE_SOURCE: 'schedule', CI_COMMIT_REF_NAME: 'main' }, { branch: 'main' }],
  ['jenkins, a branch', { ...jenkins, BRANCH_NAME: 'main', GIT_BRANCH: 'origin/main' }, { branch: 'main' }],
  [
    'jenkins, a branch of a remote by its full name',
    { ...jenkins, GIT_BRANCH: 'refs/remotes/origin/main' },
    { branch: 'main' },
  ],
  ['jenkins, a detached head', { ...jenkins, GIT_BRANCH: 'detached' }, { branch: 'git' }],
  ['jenkins, a tag', { ...jenkins, BRANCH_NAME: 'v2.5.0', TAG_NAME: 'v2.5.0' }, { tag: 'v2.5.0' }],
  [
    'jenkins, a change',
    { ...jenkins, BRANCH_NAME: 'PR-5', CHANGE_ID: '5', CHANGE_BRANCH: 'winter', CHANGE_TARGET: 'main' },
    { branch: 'pr-5', pullRequest: true },
  ],
  ['azure, a push', { ...azure, BUILD_SOURCEBRANCH: 'refs/heads/main' }, { branch: 'main' }],
  ['azure, a tag', { ...azure, BUILD_SOURCEBRANCH: 'refs/tags/v2.5.0' }, { tag: 'v2.5.0' }],
  [
    'azure, a pull request',
    {
      ...azure,
      BUILD_SOURCEBRANCH: 'refs/pull/5/merge',
      SYSTEM_PULLREQUEST_PULLREQUESTID: '5',
      SYSTEM_PULLREQUEST_SOURCEBRANCH: 'refs/heads/winter',
      SYSTEM_PULLREQUEST_TARGETBRANCH: 'refs/heads/main',
    },
    { branch: 'pr-5', pullRequest: true },
  ],
  ['bitbucket, a push', { ...bitbucket, BITBUCKET_BRANCH: 'main' }, { branch: 'main' }],
  ['bitbucket, a tag', { ...bitbucket, BITBUCKET_TAG: 'v2.5.0' }, { tag: 'v2.5.0' }],
  [
    'bitbucket, a pull request',
    { ...bitbucket, BITBUCKET_BRANCH: 'winter', BITBUCKET_PR_ID: '5', BITBUCKET_PR_DESTINATION_BRANCH: 'main' },
    { branch: 'pr-5', pullRequest: true },
  ],
  ['circle, a push', { ...circle, CIRCLE_BRANCH: 'main' }, { branch: 'main' }],
  ['circle, a tag', { ...circle, CIRCLE_TAG: 'v2.5.0' }, { tag: 'v2.5.0' }],
  [
    'circle, a pull request from a fork',
    { ...circle, CIRCLE_BRANCH: 'pull/5', CIRCLE_PULL_REQUEST: 'https://git.test/skerry/line/pull/5' },
    { branch: 'pr-5', pullRequest: true },
  ],
  [
    'buildkite, a push',
    { ...buildkite, BUILDKITE_BRANCH: 'main', BUILDKITE_PULL_REQUEST: 'false' },
    { branch: 'main' },
  ],
  [
    'buildkite, a tag',
    { ...buildkite, BUILDKITE_BRANCH: 'v2.5.0', BUILDKITE_TAG: 'v2.5.0', BUILDKITE_PULL_REQUEST: 'false' },
    { tag: 'v2.5.0' },
  ],
  [
    'buildkite, a pull request',
    {
      ...buildkite,
      BUILDKITE_BRANCH: 'winter',
      BUILDKITE_PULL_REQUEST: '5',
      BUILDKITE_PULL_REQUEST_BASE_BRANCH: 'main',
    },
    { branch: 'pr-5', pullRequest: true },
  ],
  [
    'travis, a tag',
    { ...travis, TRAVIS_BRANCH: 'v2.5.0', TRAVIS_TAG: 'v2.5.0', TRAVIS_PULL_REQUEST: 'false' },
    { tag: 'v2.5.0' },
  ],
  [
    'travis, a pull request',
    { ...travis, TRAVIS_BRANCH: 'main', TRAVIS_PULL_REQUEST: '5', TRAVIS_PULL_REQUEST_BRANCH: 'winter' },
    { branch: 'pr-5', pullRequest: true },
  ],
  ['drone, a push', { ...drone, DRONE_BUILD_EVENT: 'push', DRONE_BRANCH: 'main' }, { branch: 'main' }],
  [
    'drone, a tag',
    { ...drone, DRONE_BUILD_EVENT: 'tag', DRONE_BRANCH: 'refs/tags/v2.5.0', DRONE_TAG: 'v2.5.0' },
    { tag: 'v2.5.0' },
  ],
  [
    'woodpecker, a pull request',
    {
      ...woodpecker,
      CI_PIPELINE_EVENT: 'pull_request',
      CI_COMMIT_SOURCE_BRANCH: 'winter',
      CI_COMMIT_TARGET_BRANCH: 'main',
    },
    { branch: 'pr-winter', pullRequest: true },
  ],
  [
    'codebuild, a push',
    { ...codebuild, CODEBUILD_WEBHOOK_TRIGGER: 'branch/main', CODEBUILD_WEBHOOK_HEAD_REF: 'refs/heads/main' },
    { branch: 'main' },
  ],
  [
    'codebuild, a tag',
    { ...codebuild, CODEBUILD_WEBHOOK_TRIGGER: 'tag/v2.5.0', CODEBUILD_WEBHOOK_HEAD_REF: 'refs/tags/v2.5.0' },
    { tag: 'v2.5.0' },
  ],
  [
    'codebuild, a pull request',
    { ...codebuild, CODEBUILD_WEBHOOK_TRIGGER: 'pr/5', CODEBUILD_WEBHOOK_HEAD_REF: 'refs/heads/winter' },
    { branch: 'pr-5', pullRequest: true },
  ],
  ['teamcity, what git has', { ...teamcity }, { branch: 'git' }],
];

test.each(table)('%s', async (_, variables, { branch, tag, pullRequest = false }) => {
  const { world } = sandbox;
  const run = await hod(['publish', '--dry-run', '--verbose'], {
    ...world.options,
    env: { GIT_PAGER: '', ...variables },
  });
  const said = (name: string) => new RegExp(`^  ${name} +(.+?) {2,}(.*)$`, 'm').exec(run.stderr)?.slice(1);
  const found = {
    none: ['not known', expect.any(String)],
    git: ['main', expect.stringMatching(/\((git|the CI)\)/)],
    named: [branch, '(the CI)'],
  };
  expect(said('branch')).toEqual(found[branch === undefined ? 'none' : branch === 'git' ? 'git' : 'named']);
  expect(said('pull request')?.[0]).toBe(pullRequest ? 'yes' : 'no');
  // v2.4.0 stands at the commit; of a tag that is pushed the CI tells.
  expect(said('git tags')?.[0]).toBe(tag === undefined ? 'v2.4.0' : `v2.4.0 ${tag}`);
});
