import type { CommitId } from '../core/commit';
import { remoteGit, remoteProblem } from './remote-git';
import { sharedRemote } from './git';

/** An annotated tag of a commit, to be written to the remote. */
export interface GitTagRequest {
  /** `v2.4.0`. */
  readonly name: string;
  readonly commit: CommitId;
  readonly message: string;
  /** Who it is by. */
  readonly tagger: string;
}

/**
 * What became of a tag: `unchanged` where the remote has it at this commit already, `refused` where it has one of this name
 * elsewhere, `failed` where the remote could not be asked, or did not take it.
 */
export interface GitTagOutcome {
  readonly outcome: 'created' | 'unchanged' | 'refused' | 'failed';
  /** The name of the remote; null where the clone has none. */
  readonly remote: string | null;
  readonly reason: string;
}

/** Writes an annotated tag to the remote of a clone: `origin`, or the only one. A tag that is there is never overwritten. */
export async function pushTag(folder: string, request: GitTagRequest): Promise<GitTagOutcome> {
  const found = await sharedRemote(folder);
  if (found === undefined) {
    return { outcome: 'failed', remote: null, reason: 'this clone has no remote origin, nor a single other one' };
  }
  const { name: remote } = found;
  const ref = `refs/tags/${request.name}`;
  const there = await commitAt(folder, remote, ref);
  if ('problem' in there) {
    return { outcome: 'failed', remote, reason: there.problem };
  }
  if (there.commit !== undefined) {
    return there.commit === request.commit
      ? { outcome: 'unchanged', remote, reason: 'the remote has it' }
      : { outcome: 'refused', remote, reason: `the remote has it at ${there.commit}; a tag is never moved` };
  }
  const made = await remoteGit(folder, tagObject(request), 'mktag');
  if (made.exitCode !== 0) {
    return { outcome: 'failed', remote, reason: remoteProblem(made) };
  }
  const pushed = await remoteGit(
    folder,
    '',
    'push',
    '--porcelain',
    '--no-verify',
    remote,
    `${made.stdout.trim()}:${ref}`,
  );
  if (pushed.exitCode === 0) {
    return { outcome: 'created', remote, reason: 'the tag is new' };
  }
  // Somebody else may have written it meanwhile: the same build, as a rule.
  const now = await commitAt(folder, remote, ref);
  return 'commit' in now && now.commit === request.commit
    ? { outcome: 'unchanged', remote, reason: 'the remote has it' }
    : { outcome: 'failed', remote, reason: remoteProblem(pushed) };
}

/** The commit that a tag of the remote leads to; undefined where there is no such tag. */
async function commitAt(
  folder: string,
  remote: string,
  ref: string,
): Promise<{ readonly commit: string | undefined } | { readonly problem: string }> {
  const run = await remoteGit(folder, '', 'ls-remote', '--quiet', remote, ref, `${ref}^{}`);
  if (run.exitCode !== 0) {
    return { problem: remoteProblem(run) };
  }
  const found = new Map(
    run.stdout.split('\n').map((line) => {
      const [id = '', name = ''] = line.split('\t');
      return [name, id];
    }),
  );
  return { commit: found.get(`${ref}^{}`) ?? found.get(ref) };
}

function tagObject({ name, commit, message, tagger }: GitTagRequest): string {
  const person = tagger.replace(/[<>\n]/g, ' ').trim() || 'hod';
  const seconds = Math.floor(Date.now() / 1000);
  return `object ${commit}\ntype commit\ntag ${name}\ntagger ${person} <> ${seconds} +0000\n\n${message}\n`;
}
