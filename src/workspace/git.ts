import { execFile } from 'node:child_process';
import { promisify } from 'node:util';
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
  /** The day of the commit, UTC, `YYYYMMDD`. */
  date: string;
}

/** Reads about a commit, or about HEAD; undefined where git, a working copy or the commit is missing. */
export async function readGit(folder: string, commit = 'HEAD'): Promise<GitFacts | undefined> {
  const id = await git(folder, 'rev-parse', '--verify', '--quiet', '--end-of-options', `${commit}^{commit}`);
  if (id === undefined) {
    return undefined;
  }
  const head = await git(folder, 'rev-parse', '--verify', '--quiet', 'HEAD');
  const branch = head === id ? await git(folder, 'symbolic-ref', '--quiet', '--short', 'HEAD') : undefined;
  const tags = (await git(folder, 'tag', '--points-at', id)) ?? '';
  const time = (await git(folder, 'show', '--no-patch', '--format=%ct', id)) ?? '0';
  return {
    commit: id,
    branch: branch === '' ? undefined : branch,
    tags: tags.split('\n').filter((tag) => tag !== ''),
    date: new Date(Number(time) * 1000).toISOString().slice(0, 10).replaceAll('-', ''),
  };
}

/**
 * Finds out how one commit stands to others. In a shallow clone only a yes is certain: what leads
 * there may have been left out.
 */
export async function readAncestry(folder: string, commit: string, others: readonly string[]): Promise<Ancestry> {
  const known = new Map<string, boolean | undefined>();
  const shallow = others.length > 0 && (await git(folder, 'rev-parse', '--is-shallow-repository')) !== 'false';
  for (const other of new Set(others)) {
    for (const [older, newer] of [
      [other, commit],
      [commit, other],
    ] as const) {
      const answer = await isAncestor(folder, older, newer);
      known.set(`${older} ${newer}`, shallow && answer === false ? undefined : answer);
    }
  }
  return (older, newer) => (older === newer ? true : known.get(`${older} ${newer}`));
}

async function isAncestor(folder: string, older: string, newer: string): Promise<boolean | undefined> {
  try {
    await run('git', ['-C', folder, 'merge-base', '--is-ancestor', older, newer]);
    return true;
  } catch (error) {
    return error instanceof Error && 'code' in error && error.code === 1 ? false : undefined;
  }
}

async function git(folder: string, ...args: string[]): Promise<string | undefined> {
  try {
    const { stdout } = await run('git', ['-C', folder, ...args]);
    return stdout.trim();
  } catch {
    return undefined;
  }
}
