import envCi from 'env-ci';
import * as z from 'zod';
import { ciFacts, type CiFacts } from '../core/build/ci-facts';

const text = z.string().min(1).optional().catch(undefined);
const schema = z.object({
  service: z.string(),
  commit: text,
  branch: text,
  pr: z.coerce.string().min(1).optional().catch(undefined),
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
  const { buildUrl, jobUrl, ...reading } = found;
  return ciFacts({ ...reading, run: buildUrl ?? jobUrl }, (name) => process.env[name] || undefined);
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
