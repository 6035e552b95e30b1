import { spawn } from 'node:child_process';
import { once } from 'node:events';
import { devNull } from 'node:os';
import type { Readable } from 'node:stream';
import { systemErrorCode } from '../../../core/errors';
import { withoutTracing } from '../../../system/git-environment';

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
    ...process.env,
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

/** The most of what git says that is kept, in bytes: of errors the end. */
const [outputLimit, errorLimit] = [64 * 1024 ** 2, 64 * 1024];

/** Runs that have not ended. Each is a group of processes, with those that git starts to reach a remote. */
const running = new Set<number>();
process.on('exit', () => running.forEach(endGroup));

/**
 * Runs git to its end. Never throws for how it ends.
 *
 * @param timeout Milliseconds; then git is ended, with all that it started.
 */
export async function runGit(
  args: readonly string[],
  { env, cwd, input = '', timeout }: { env: NodeJS.ProcessEnv; cwd: string; input?: string | Buffer; timeout?: number },
): Promise<GitRun> {
  const child = spawn('git', args, { env, cwd, stdio: ['pipe', 'pipe', 'pipe'], detached: true });
  // It may end before it has read all of it; how it ended says why.
  child.stdin.on('error', () => undefined).end(input);
  const { pid } = child;
  if (pid !== undefined) {
    running.add(pid);
  }
  let late = '';
  const timer =
    timeout === undefined
      ? undefined
      : setTimeout(() => {
          late = `git did not end within ${timeout / 1000} s: timed out\n`;
          endGroup(pid);
        }, timeout);
  try {
    const [stdout, stderr, [code]] = await Promise.all([
      endOf(child.stdout, outputLimit),
      endOf(child.stderr, errorLimit),
      once(child, 'close') as Promise<[number | null]>,
    ]);
    return { exitCode: late === '' ? (code ?? undefined) : undefined, stdout, stderr: `${stderr}${late}` };
  } catch (error) {
    const missing = systemErrorCode(error) === 'ENOENT';
    return { exitCode: undefined, stdout: '', stderr: missing ? 'git is not installed here' : String(error) };
  } finally {
    clearTimeout(timer);
    if (pid !== undefined) {
      running.delete(pid);
    }
  }
}

/** Ends a process and all that it started. */
function endGroup(pid: number | undefined): void {
  try {
    if (pid !== undefined) {
      process.kill(-pid, 'SIGKILL');
    }
  } catch {
    // It has ended.
  }
}

/** What a stream says, or the last of it. */
async function endOf(stream: Readable, limit: number): Promise<string> {
  let pieces: Buffer[] = [];
  let length = 0;
  for await (const piece of stream as AsyncIterable<Buffer>) {
    pieces.push(piece);
    length += piece.length;
    if (length > 2 * limit) {
      pieces = [Buffer.concat(pieces).subarray(-limit)];
      length = limit;
    }
  }
  return Buffer.concat(pieces).subarray(-limit).toString('utf8');
}
