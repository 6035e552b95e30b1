import envCi from 'env-ci';
import * as z from 'zod';

/** What the environment of a CI job says about the build. */
export interface CiFacts {
  /** Full commit id. */
  commit: string | undefined;
  /** The branch that was built; of a pull request, the one that it comes from. */
  branch: string | undefined;
  /** The git tag that was built. */
  tag: string | undefined;
  /** The number that the CI gave to the build. */
  build: string | undefined;
  /** Where the run can be looked at. */
  run: string | undefined;
  /** It builds a pull request. */
  pullRequest: boolean;
}

const text = z.string().min(1).optional().catch(undefined);
const schema = z.object({
  service: z.string(),
  commit: text,
  branch: text,
  prBranch: text,
  tag: text,
  build: text,
  buildUrl: text,
  jobUrl: text,
  isPr: z.boolean().catch(false),
});

/** Reads what the CI that runs this says; undefined where none is recognised. */
export function readCi(folder: string): CiFacts | undefined {
  const found = schema.safeParse(envCi({ env: process.env, cwd: folder })).data;
  if (found === undefined) {
    return undefined;
  }
  const { commit, tag, build, buildUrl, jobUrl, isPr, branch, prBranch } = found;
  // What a pull request would become is not what was built.
  return { commit, branch: isPr ? prBranch : branch, tag, build, run: buildUrl ?? jobUrl, pullRequest: isPr };
}

/** Where CI systems say who started a job, or whose change it builds. */
const actorVariables = [
  'GITHUB_ACTOR',
  'GITLAB_USER_LOGIN',
  'BUILD_REQUESTEDFOREMAIL',
  'BUILD_REQUESTEDFOR',
  'BUILDKITE_BUILD_CREATOR',
  'CIRCLE_USERNAME',
  'BUILD_USER_ID',
  'CHANGE_AUTHOR',
  'DRONE_COMMIT_AUTHOR',
  'CI_COMMIT_AUTHOR',
];

/** Who the CI says that started this job; undefined where none is recognised, or it does not say. */
export function readCiActor(folder: string): string | undefined {
  const actor = actorVariables.map((name) => process.env[name]).find((value) => value !== undefined && value !== '');
  return actor === undefined || readCi(folder) === undefined ? undefined : actor;
}
