import { execFile } from 'node:child_process';
import { promisify } from 'node:util';
import * as z from 'zod';
import type { Ancestry } from '../core/tags/ordering';

const run = promisify(execFile);

/** What git says about one commit of a working copy. */
export interface GitFacts {
  /** Full commit id. */
  commit: string;
  /** The branch that is checked out, where `commit` is its tip; undefined for a detached head. */
  branch: string | undefined;
  /** Names of the tags that point at the commit. */
  tags: string[];
  /** When it was committed. RFC 3339, UTC. */
  time: string;
  /** Files that git tracks were changed and not committed; of a commit that is not checked out, never. */
  dirty: boolean;
  /** The history was cut off: older commits, and perhaps tags, are not here. */
  shallow: boolean;
}

/** What git says about a commit, or why it says nothing. */
export type GitReading = { facts: GitFacts } | { gap: string };

/** Reads about a commit, or about HEAD. */
export async function readGit(folder: string, commit = 'HEAD'): Promise<GitReading> {
  const found = await git(folder, 'rev-parse', '--verify', '--quiet', '--end-of-options', `${commit}^{commit}`);
  if ('failed' in found) {
    return { gap: await gapIn(folder, commit) };
  }
  const id = found.text;
  const [head, branch, tags, time, changes, shallow] = await Promise.all([
    git(folder, 'rev-parse', '--verify', '--quiet', 'HEAD'),
    git(folder, 'symbolic-ref', '--quiet', '--short', 'HEAD'),
    git(folder, 'tag', '--points-at', id),
    git(folder, 'show', '--no-patch', '--format=%ct', id),
    git(folder, 'status', '--porcelain', '--untracked-files=no'),
    isShallow(folder),
  ]);
  const isHead = textOf(head) === id;
  return {
    facts: {
      commit: id,
      branch: (isHead && textOf(branch)) || undefined,
      tags: textOf(tags)
        .split('\n')
        .filter((tag) => tag !== ''),
      time: new Date(Number(textOf(time)) * 1000).toISOString(),
      dirty: isHead && textOf(changes) !== '',
      shallow,
    },
  };
}

/** Names of the tags of a commit and of all that it contains; none where git cannot tell. */
export async function tagsUpTo(folder: string, commit: string): Promise<string[]> {
  return textOf(await git(folder, 'tag', '--merged', commit)).split('\n');
}

/** How the commits of a working copy stand to each other; what was found out once is remembered. */
export class History {
  private readonly known = new Map<string, Promise<boolean | undefined>>();
  private gap: Promise<string> | undefined;

  constructor(private readonly folder: string) {}

  /** Finds out how one commit stands to others. */
  async around(commit: string, others: readonly string[]): Promise<Ancestry> {
    const answers = new Map<string, boolean | undefined>();
    const pairs = [...new Set(others)].flatMap((other) => [`${other} ${commit}`, `${commit} ${other}`]);
    await Promise.all(pairs.map(async (pair) => answers.set(pair, await this.contains(pair))));
    const unknown = pairs.some((pair) => answers.get(pair) === undefined);
    return {
      contains: (older, newer) => (older === newer ? true : answers.get(`${older} ${newer}`)),
      gap: unknown ? await (this.gap ??= gapIn(this.folder, commit)) : '',
    };
  }

  private contains(pair: string): Promise<boolean | undefined> {
    const [older = '', newer = ''] = pair.split(' ');
    const answer = this.known.get(pair) ?? isAncestor(this.folder, older, newer);
    this.known.set(pair, answer);
    return answer;
  }
}

/** Files that differ between a commit and HEAD, relative to the folder; undefined where git cannot tell. */
export async function changedFiles(folder: string, since: string): Promise<string[] | undefined> {
  const found = await git(
    folder,
    'diff',
    '--name-only',
    '--relative',
    '-z',
    '--end-of-options',
    `${since}...HEAD`,
    '--',
  );
  return 'failed' in found ? undefined : found.text.split('\0').filter((name) => name !== '');
}

/** In a shallow clone only a yes is certain: what leads there may have been left out. */
async function isAncestor(folder: string, older: string, newer: string): Promise<boolean | undefined> {
  const found = await git(folder, 'merge-base', '--is-ancestor', older, newer);
  if (!('failed' in found)) {
    return true;
  }
  return found.failed === 1 && !(await isShallow(folder)) ? false : undefined;
}

async function isShallow(folder: string): Promise<boolean> {
  return textOf(await git(folder, 'rev-parse', '--is-shallow-repository')) === 'true';
}

/** Why git here does not tell something, and what would help. */
async function gapIn(folder: string, commit: string): Promise<string> {
  const found = await git(folder, 'rev-parse', '--is-shallow-repository');
  if ('failed' in found) {
    if (found.failed === 'ENOENT') {
      return 'git is not installed here';
    }
    return /dubious ownership/.test(found.said)
      ? `git does not trust this working copy, which belongs to another user; \`git config --global --add safe.directory ${folder}\` allows it`
      : 'this is not a git working copy';
  }
  if (found.text === 'true') {
    return 'this is a shallow clone, which lacks older commits; `git fetch --unshallow --tags` brings them';
  }
  return commit === 'HEAD'
    ? 'nothing was committed yet'
    : 'git here does not have both commits; `git fetch` brings them';
}

/** A failed run: its exit code, or the code of the system error for which there was none. */
const failure = z.object({
  code: z
    .union([z.number(), z.string()])
    .nullish()
    .transform((code) => code ?? undefined),
  stderr: z.string().catch(''),
});

type Answer = { text: string } | { failed: number | string | undefined; said: string };

function textOf(answer: Answer): string {
  return 'failed' in answer ? '' : answer.text;
}

async function git(folder: string, ...args: string[]): Promise<Answer> {
  try {
    const { stdout } = await run('git', ['-C', folder, ...args], { maxBuffer: 64 * 1024 * 1024 });
    return { text: stdout.trim() };
  } catch (error) {
    const { code, stderr } = failure.parse(error);
    return { failed: code, said: stderr };
  }
}
