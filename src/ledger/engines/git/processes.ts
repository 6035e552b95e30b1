import { devNull } from 'node:os';
import { withoutTracing } from '../../../system/git-environment';
import { runProgram } from '../../../system/programs';

/** A setting of git. */
export type GitSetting = readonly [key: string, value: string];

/** How a run of git ended. */
export interface GitRun {
  /** Undefined where it did not end by itself, or could not be started. */
  readonly exitCode: number | undefined;
  readonly stdout: string;
  /** What it said of an error; why it could not be started, where it could not. */
  readonly stderr: string;
}

/** Variables by which git is told of another repository than ours (`git rev-parse --local-env-vars`), and of a namespace in it. */
const foreign = [
  'GIT_ALTERNATE_OBJECT_DIRECTORIES',
  'GIT_COMMON_DIR',
  'GIT_CONFIG',
  'GIT_CONFIG_PARAMETERS',
  'GIT_GRAFT_FILE',
  'GIT_IMPLICIT_WORK_TREE',
  'GIT_INDEX_FILE',
  'GIT_INTERNAL_SUPER_PREFIX',
  'GIT_NAMESPACE',
  'GIT_NO_REPLACE_OBJECTS',
  'GIT_PREFIX',
  'GIT_QUARANTINE_PATH',
  'GIT_REPLACE_REF_BASE',
  'GIT_SHALLOW_FILE',
  'GIT_WORK_TREE',
];

/**
 * The environment of git in a repository of ours: no settings but those given, whatever this machine and
 * user have; no question to anybody; and its own words, whatever the language. Settings go in here and
 * not into arguments, which everybody on a machine can read: they may hold secrets.
 */
export function gitEnvironment(
  repository: { gitDir: string; objects: string },
  settings: readonly GitSetting[],
): NodeJS.ProcessEnv {
  return {
    ...Object.fromEntries(foreign.map((name) => [name, undefined])),
    ...withoutTracing(),
    GIT_DIR: repository.gitDir,
    GIT_OBJECT_DIRECTORY: repository.objects,
    GIT_CONFIG_GLOBAL: devNull,
    GIT_CONFIG_NOSYSTEM: '1',
    GIT_CONFIG_COUNT: String(settings.length),
    ...Object.fromEntries(
      settings.flatMap(([key, value], at) => [
        [`GIT_CONFIG_KEY_${at}`, key],
        [`GIT_CONFIG_VALUE_${at}`, value],
      ]),
    ),
    GIT_TERMINAL_PROMPT: '0',
    LC_ALL: 'C',
  };
}

/**
 * Runs git to its end, and all that it starts to reach a remote. Never throws for how it ends.
 *
 * `timeout`: milliseconds; then git is ended.
 */
export async function runGit(
  args: readonly string[],
  options: { env: NodeJS.ProcessEnv; cwd: string; input?: string; timeout?: number },
): Promise<GitRun> {
  const { env, cwd: folder, input, timeout } = options;
  const run = await runProgram('git', args, { folder, env, input, timeout, group: true });
  return { ...run, stderr: `${run.stderr}${run.cause === undefined ? '' : notEnded(run.cause)}` };
}

function notEnded(cause: string): string {
  return cause === 'ENOENT' ? 'git is not installed here' : `git did not end by itself (timed out): ${cause}\n`;
}
