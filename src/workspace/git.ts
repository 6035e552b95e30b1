import pLimit from 'p-limit';
import { isCommitId, type CommitId } from '../core/commit';
import { timestampOf, type Timestamp } from '../core/time';
import type { Ancestry } from '../core/tags/ordering';
import { withoutTracing } from '../system/git-environment';
import { runProgram, type ProgramRun } from '../system/programs';

// Only commands of git that are made for programs are run, in formats of our own: what people set for their eyes (colours,
// columns, signatures, the detection of renames) changes nothing.

/** What git says about one commit of a working copy. */
export interface GitCommit {
  id: CommitId;
  /** The branch that is checked out, where the commit is its tip; undefined for a detached head. */
  branch: string | undefined;
  /** Names of the tags that point to the commit. */
  tags: string[];
  /** When it was committed; undefined where that is no time of a calendar with four digits for a year. */
  time: Timestamp | undefined;
  /** Files that git tracks were changed and not committed; of a commit that is not checked out, never. */
  dirty: boolean;
  /** The history was cut off: older commits, and perhaps tags, are not here. */
  shallow: boolean;
}

/** What git says about a commit, or why it says nothing; and which commit is checked out, where git can tell. */
export type GitReading = ({ readonly commit: GitCommit } | { readonly gap: string }) & {
  readonly head: CommitId | undefined;
};

/** Reads about a commit, or about HEAD. Four runs of git, all at once: each asks for what no other tells. */
export async function readGit(folder: string, commit = 'HEAD'): Promise<GitReading> {
  const object = `${commit}^{commit}`;
  const [asked, checkout, tags, time] = await Promise.all([
    git(folder, 'rev-parse', '--is-shallow-repository', '--end-of-options', object),
    readCheckout(folder),
    git(folder, 'for-each-ref', '--format=%(refname:strip=2)', `--points-at=${object}`, 'refs/tags'),
    git(folder, 'rev-list', '--no-walk', '--format=%x00%ct', '--end-of-options', object, '--'),
  ]);
  const answers = linesOf(asked);
  const id = answers.at(-1) ?? '';
  const { head } = checkout;
  if (!isCommitId(id)) {
    return { gap: await gapIn(folder, commit), head };
  }
  const isHead = head === id;
  return {
    commit: {
      id,
      branch: isHead ? checkout.branch : undefined,
      tags: linesOf(tags),
      time: timeOf(formattedLines(time)[0]?.[1]),
      dirty: isHead && checkout.dirty,
      shallow: answers[0] === 'true',
    },
    head,
  };
}

/** What is checked out, and whether files that git tracks were changed since. */
interface Checkout {
  readonly head: CommitId | undefined;
  readonly branch: string | undefined;
  readonly dirty: boolean;
}

/** Reads what is checked out: the header lines of `git status --porcelain=v2 --branch`, and whether more follow. */
async function readCheckout(folder: string): Promise<Checkout> {
  const status = await git(folder, 'status', '--porcelain=v2', '--branch', '--no-ahead-behind', '--untracked-files=no');
  if (status.exitCode !== 0) {
    // A bare repository has a HEAD, and no files that could have been changed.
    const [head, branch] = await Promise.all([
      checkedOut(folder),
      git(folder, 'symbolic-ref', '--quiet', '--short', 'HEAD'),
    ]);
    return { head, branch: textOf(branch) || undefined, dirty: false };
  }
  const lines = linesOf(status);
  const header = (name: string): string | undefined =>
    lines.find((line) => line.startsWith(`# branch.${name} `))?.slice(`# branch.${name} `.length);
  const [id = '', branch] = [header('oid'), header('head')];
  return {
    head: isCommitId(id) ? id : undefined,
    branch: branch === '(detached)' ? undefined : branch,
    dirty: lines.some((line) => !line.startsWith('# ')),
  };
}

/** Reads the id of the commit that a name stands for, or why git does not know one. */
export async function commitNamed(
  folder: string,
  name: string,
): Promise<{ readonly id: CommitId } | { readonly gap: string }> {
  const id = textOf(await git(folder, 'rev-parse', '--verify', '--quiet', '--end-of-options', `${name}^{commit}`));
  return isCommitId(id) ? { id } : { gap: await gapIn(folder, name) };
}

/** Returns the commit that is checked out; undefined where none is, or git cannot tell. */
export async function checkedOut(folder: string): Promise<CommitId | undefined> {
  const id = textOf(await git(folder, 'rev-parse', '--verify', '--quiet', 'HEAD'));
  return isCommitId(id) ? id : undefined;
}

/** How a clone reaches a remote. */
export interface RemoteAccess {
  /** Where it is; undefined where the clone has no remote of this name, and the name is no place itself. */
  readonly url: string | undefined;
  /** Where git runs: a relative URL is so to it. */
  readonly folder: string;
  /** Settings of git that say how remotes are reached, with whose login. They may hold secrets. */
  readonly settings: readonly (readonly [key: string, value: string])[];
  /** Those of the remote alone: `pushurl`, `proxy` and the like, without its name. */
  readonly remoteSettings: readonly (readonly [key: string, value: string])[];
}

/** Settings about how remotes are reached (git-config). Nothing else that a user sets is of concern. */
const accessSettings = /^(credential|http|protocol|ssh|url)\.|^core\.(askpass|gitproxy|sshcommand)$/;
const remoteSettings = /^(pushurl|proxy|proxyauthmethod|uploadpack|receivepack|vcs)$/;

/**
 * How a clone, its user and this machine reach a remote. `remote`: the name of one in the clone, or a
 * place as git takes it; where there is no clone, a place alone.
 */
export async function remoteAccess(folder: string, remote: string): Promise<RemoteAccess> {
  const [listed, top] = await Promise.all([
    git(folder, 'config', '--list', '--includes', '--null'),
    git(folder, 'rev-parse', '--show-toplevel'),
  ]);
  const all = (listed.exitCode === 0 ? listed.stdout : '')
    .split('\0')
    .filter((each) => each !== '')
    .map((each): [string, string] => {
      const [key = '', ...value] = each.split('\n');
      return [key, value.join('\n')];
    });
  const prefix = `remote.${remote}.`;
  const own = all.flatMap(([key, value]): [string, string][] =>
    key.startsWith(prefix) ? [[key.slice(prefix.length), value]] : [],
  );
  const isPlace = /[/\\:]/.test(remote);
  return {
    url: own.find(([key]) => key === 'url')?.[1] ?? (isPlace ? remote : undefined),
    folder: textOf(top) || folder,
    settings: all.filter(([key]) => accessSettings.test(key)),
    remoteSettings: own.filter(([key]) => remoteSettings.test(key)),
  };
}

/** What a new configuration takes from git. */
export interface Clone {
  /** A commit to publish, none yet, or no clone. */
  readonly state: 'commit' | 'empty' | 'none';
  /** The branch that is built as a rule. */
  readonly branch: string;
  /** The names of its tags. */
  readonly tags: readonly string[];
  /** The remote that others share: `origin`, or the only one. */
  readonly remote: { readonly name: string; readonly url: string } | undefined;
}

/** Reads what a folder is a clone of. */
export async function readClone(folder: string): Promise<Clone> {
  const [inside, commit, here, remote, tags, [usual = 'main', ...others]] = await Promise.all([
    git(folder, 'rev-parse', '--is-inside-work-tree'),
    git(folder, 'rev-parse', '--verify', '--quiet', 'HEAD'),
    git(folder, 'symbolic-ref', '--quiet', '--short', 'HEAD'),
    sharedRemote(folder),
    git(folder, 'for-each-ref', '--format=%(refname:strip=2)', 'refs/tags'),
    usualBranches(folder),
  ]);
  return {
    state: commit.exitCode === 0 ? 'commit' : inside.exitCode === 0 ? 'empty' : 'none',
    // Where the remote says which it is, or the usual names, there is a choice of one.
    branch: others.length === 0 ? usual : textOf(here) || usual,
    tags: linesOf(tags),
    remote,
  };
}

/** Returns the SSH key that git signs with, as the path of a file; undefined where it signs with none. */
export async function signingKey(folder: string): Promise<string | undefined> {
  const key = textOf(await git(folder, 'config', '--type=path', '--get', 'user.signingkey'));
  return key === '' || key.startsWith('key::') ? undefined : key;
}

/** Returns the remote of a clone that others share: `origin`, or the only one. */
export async function sharedRemote(folder: string): Promise<Clone['remote']> {
  const names = linesOf(await git(folder, 'remote'));
  const name = names.includes('origin') ? 'origin' : names.length === 1 ? names[0] : undefined;
  const { url } = name === undefined ? { url: undefined } : await remoteAccess(folder, name);
  return name === undefined || url === undefined ? undefined : { name, url };
}

/** Names of the tags of a commit and of all that it contains; none where git cannot tell. */
export async function tagsUpTo(folder: string, commit: CommitId): Promise<string[]> {
  return linesOf(await git(folder, 'for-each-ref', '--format=%(refname:strip=2)', `--merged=${commit}`, 'refs/tags'));
}

/** The branches that contain a commit, here and at remotes, without the names of the remotes; none where git cannot tell. */
export async function branchesWith(folder: string, commit: CommitId): Promise<string[]> {
  const format = '--format=%(refname)';
  return branchNames(await git(folder, 'for-each-ref', format, `--contains=${commit}`, 'refs/heads', 'refs/remotes'));
}

/** The names of branches, here and at remotes, that git printed in full; without the names of the remotes. */
function branchNames(run: ProgramRun): string[] {
  const names = linesOf(run).map((name) => name.replace(/^refs\/(heads|remotes\/[^/]+)\//, ''));
  return [...new Set(names)].filter((name) => name !== 'HEAD');
}

/** What a clone has of the history of its product. */
export interface History {
  /** Every commit is here: git is there, and the clone is not shallow. */
  readonly isWhole: boolean;
  /** The tags, and the commits that they lead to. */
  readonly tags: readonly { readonly name: string; readonly commit: CommitId }[];
  /** Here and at remotes, without the names of the remotes. */
  readonly branches: readonly string[];
}

/** So many commits of branches are read. */
const mostRead = 5_000;

/** Reads the commits of some branches, here and at remotes, the newest first: at most {@link mostRead}; none where git cannot tell. */
export async function commitsOn(folder: string, branches: readonly string[]): Promise<CommitId[]> {
  const patterns = branches.flatMap((branch) => [`refs/heads/${branch}`, `refs/remotes/*/${branch}`]);
  const refs = linesOf(await git(folder, 'for-each-ref', '--format=%(refname)', ...patterns));
  const of = refs.length > 0 ? refs : ['HEAD'];
  const run = await git(folder, 'rev-list', `--max-count=${mostRead}`, ...of, '--');
  return linesOf(run).filter(isCommitId);
}

/** Reads what a clone has of the history of its product; nothing where git cannot tell. */
export async function readHistory(folder: string): Promise<History> {
  const [shallow, tags, branches] = await Promise.all([
    git(folder, 'rev-parse', '--is-shallow-repository'),
    git(folder, 'for-each-ref', '--format=%(refname:strip=2)%00%(objectname)%00%(*objectname)', 'refs/tags'),
    git(folder, 'for-each-ref', '--format=%(refname)', 'refs/heads', 'refs/remotes'),
  ]);
  return {
    isWhole: textOf(shallow) === 'false',
    tags: linesOf(tags).flatMap((line) => {
      const [name = '', id = '', peeled = ''] = line.split('\0');
      const commit = peeled === '' ? id : peeled;
      return isCommitId(commit) ? [{ name, commit }] : [];
    }),
    branches: branchNames(branches),
  };
}

/** The branch that the remote of a clone calls its default; the usual names where that is not known. */
export async function usualBranches(folder: string): Promise<string[]> {
  const remotes = linesOf(await git(folder, 'remote'));
  const remote = remotes.includes('origin') ? 'origin' : remotes[0];
  const head =
    remote === undefined ? '' : textOf(await git(folder, 'symbolic-ref', '--quiet', `refs/remotes/${remote}/HEAD`));
  const prefix = `refs/remotes/${remote ?? ''}/`;
  return head.startsWith(prefix) ? [head.slice(prefix.length)] : ['main', 'master'];
}

/** How the commits of a working copy stand to each other; what was found out once is remembered. */
export class CommitHistory {
  private readonly known = new Map<string, Promise<boolean | undefined>>();
  private gap: Promise<string> | undefined;

  constructor(private readonly folder: string) {}

  /** Finds out how one commit stands to others. */
  async around(commit: CommitId, others: readonly CommitId[]): Promise<Ancestry> {
    const answers = new Map<string, boolean | undefined>();
    const pairs = [...new Set(others)].flatMap((other): [CommitId, CommitId][] => [
      [other, commit],
      [commit, other],
    ]);
    await Promise.all(pairs.map(async (pair) => answers.set(pair.join(' '), await this.contains(...pair))));
    const unknown = [...answers.values()].includes(undefined);
    return {
      contains: (older, newer) => (older === newer ? true : answers.get(`${older} ${newer}`)),
      gap: unknown ? await (this.gap ??= gapIn(this.folder, commit)) : '',
    };
  }

  private contains(older: CommitId, newer: CommitId): Promise<boolean | undefined> {
    const pair = `${older} ${newer}`;
    const answer = this.known.get(pair) ?? isAncestor(this.folder, older, newer);
    this.known.set(pair, answer);
    return answer;
  }
}

/** Files that changed on the way from a commit to HEAD, relative to the folder; undefined where git cannot tell. */
export async function changedFiles(folder: string, since: string): Promise<string[] | undefined> {
  const base = textOf(await git(folder, 'merge-base', '--end-of-options', since, 'HEAD'));
  return base === '' ? undefined : differingFiles(folder, base);
}

/** Files that differ between a commit and HEAD, whether one contains the other or not; undefined where git cannot tell. */
export async function differingFiles(folder: string, base: string): Promise<string[] | undefined> {
  const run = await git(folder, 'diff-tree', '-r', '--no-renames', '--name-only', '--relative', '-z', base, 'HEAD');
  return run.exitCode === 0 ? run.stdout.split('\0').filter((name) => name !== '') : undefined;
}

/** In a shallow clone only a yes is certain: what leads there may have been left out. */
async function isAncestor(folder: string, older: CommitId, newer: CommitId): Promise<boolean | undefined> {
  const { exitCode } = await git(folder, 'merge-base', '--is-ancestor', older, newer);
  if (exitCode === 0) {
    return true;
  }
  return exitCode === 1 && !(await isShallow(folder)) ? false : undefined;
}

async function isShallow(folder: string): Promise<boolean> {
  return textOf(await git(folder, 'rev-parse', '--is-shallow-repository')) === 'true';
}

/** Why git here does not tell something, and what would help. */
async function gapIn(folder: string, commit: string): Promise<string> {
  const run = await git(folder, 'rev-parse', '--is-shallow-repository');
  if (run.exitCode !== 0) {
    if (run.cause === 'ENOENT') {
      return 'git is not installed here';
    }
    return /dubious ownership/.test(run.stderr)
      ? `git does not trust this working copy, which belongs to another user; \`git config --global --add safe.directory ${folder}\` allows it`
      : 'this is not a git working copy';
  }
  if (textOf(run) === 'true') {
    return 'this is a shallow clone, which lacks older commits; `git fetch --unshallow --tags` brings them';
  }
  return commit === 'HEAD'
    ? 'nothing was committed yet'
    : 'git here does not have both commits; `git fetch` brings them';
}

/** What a run printed; nothing where it failed. */
function textOf({ exitCode, stdout }: ProgramRun): string {
  return exitCode === 0 ? stdout.trim() : '';
}

function linesOf(run: ProgramRun): string[] {
  return textOf(run)
    .split('\n')
    .filter((line) => line !== '');
}

/** The fields of the lines that `rev-list` prints in our format; it prints a line of its own before each. */
function formattedLines(run: ProgramRun): string[][] {
  return linesOf(run)
    .filter((line) => line.includes('\0'))
    .map((line) => line.split('\0'));
}

/** What stands for a time after it, which RFC 3339 cannot say. */
const latestTime = '9999-12-31T23:59:59Z';

/** A time of git, in seconds since 1970; undefined for one that RFC 3339 cannot say. */
function timeOf(seconds: string | undefined): Timestamp | undefined {
  const time = Number(seconds) * 1000;
  return time >= Date.parse('0001-01-01') && time <= Date.parse(latestTime) ? timestampOf(new Date(time)) : undefined;
}

/** How many git programs run at once. */
const turn = pLimit(8);

/** Runs git; what it says of an error is read, so it speaks in its own words whatever the locale. */
function git(folder: string, ...args: string[]): Promise<ProgramRun> {
  return gitReading('', folder, ...args);
}

/** The same, with something on its standard input. */
function gitReading(input: string, folder: string, ...args: string[]): Promise<ProgramRun> {
  const env = { ...withoutTracing(), LC_ALL: 'C', GIT_OPTIONAL_LOCKS: '0' };
  return turn(() => runProgram('git', ['-C', folder, ...args], { folder, input, env }));
}

/** A commit as a log tells of it. */
export interface LoggedCommit {
  readonly commit: string;
  readonly author: string;
  /** RFC 3339. */
  readonly at: string;
  readonly subject: string;
}

/** So many commits are told. */
const mostLogged = 500;

/** The commits that one commit contains and another does not, the newest first; or why git here cannot tell. */
export async function commitsBetween(
  folder: string,
  from: CommitId,
  to: CommitId,
): Promise<{ readonly commits: LoggedCommit[] } | { readonly gap: string }> {
  const run = await git(
    folder,
    'rev-list',
    logFormat,
    '--encoding=UTF-8',
    `--max-count=${mostLogged}`,
    `${from}..${to}`,
    '--',
  );
  if (run.exitCode !== 0 || (await isShallow(folder))) {
    return { gap: await gapIn(folder, to) };
  }
  return { commits: loggedIn(run) };
}

/** When commits were made, of those that git has here. */
export async function commitTimes(folder: string, commits: readonly CommitId[]): Promise<Map<CommitId, Timestamp>> {
  const args = ['rev-list', '--no-walk=unsorted', '--ignore-missing', '--format=%H%x00%ct', '--stdin'];
  const run = await gitReading(commits.map((id) => `${id}\n`).join(''), folder, ...args);
  return new Map(
    formattedLines(run).flatMap(([id = '', seconds]): [CommitId, Timestamp][] => {
      const time = timeOf(seconds);
      return isCommitId(id) && time !== undefined ? [[id, time]] : [];
    }),
  );
}

/** What git tells of the commits that contain one. */
export interface Descendants {
  /** The commit itself, and all that contain it. */
  readonly commits: ReadonlySet<string>;
  /** Whether git here has a commit at all. */
  readonly has: (commit: CommitId) => boolean;
  /** Older commits are missing here: what is not found may be there. */
  readonly shallow: boolean;
}

/** Reads which commits contain one: those of every branch and tag, and some others where git has them. */
export async function descendantsOf(
  folder: string,
  commit: CommitId,
  others: readonly CommitId[],
): Promise<Descendants> {
  const known = new Set((await commitTimes(folder, [commit, ...others])).keys());
  if (!known.has(commit)) {
    return { commits: new Set([commit]), has: (each) => known.has(each), shallow: await isShallow(folder) };
  }
  const heads = [...known].map((id) => `${id}\n`).join('');
  const [run, shallow] = await Promise.all([
    gitReading(`${heads}^${commit}\n`, folder, 'rev-list', '--ancestry-path', '--all', '--stdin'),
    isShallow(folder),
  ]);
  return { commits: new Set([commit, ...linesOf(run)]), has: (each) => known.has(each), shallow };
}

/** A commit that repeats what another one changes. */
export interface PickedCommit {
  readonly commit: CommitId;
  /** It makes the same changes, or its message says `(cherry picked from commit …)`, as `git cherry-pick -x` writes it. */
  readonly by: 'changes' | 'message';
}

/** Finds the commits below some others, and not below a commit, that repeat it. */
export async function picksOf(folder: string, commit: CommitId, heads: readonly CommitId[]): Promise<PickedCommit[]> {
  const parent = await commitNamed(folder, `${commit}^`);
  // A commit that changes nothing would be the same as every other such commit.
  const changed = await git(folder, 'diff-tree', '--root', '--no-commit-id', '-r', '--name-only', commit);
  const isEmpty = textOf(changed) === '';
  const without = 'id' in parent ? [`^${parent.id}`] : [];
  const found = await Promise.all(
    heads.map(async (head) => {
      const [same, said] = await Promise.all([
        git(
          folder,
          'rev-list',
          '--cherry-mark',
          '--right-only',
          '--no-merges',
          `${commit}...${head}`,
          ...without,
          '--',
        ),
        git(
          folder,
          'rev-list',
          '--fixed-strings',
          `--grep=cherry picked from commit ${commit}`,
          head,
          `^${commit}`,
          ...without,
          '--',
        ),
      ]);
      return [
        ...(isEmpty ? [] : linesOf(same)).flatMap((line) =>
          line.startsWith('=') ? pickOf(line.slice(1), 'changes') : [],
        ),
        ...linesOf(said).flatMap((id) => pickOf(id, 'message')),
      ];
    }),
  );
  const all = new Map(
    found
      .flat()
      .reverse()
      .map((each) => [each.commit, each]),
  );
  return [...all.values()].filter((each) => each.commit !== commit);
}

function pickOf(id: string, by: PickedCommit['by']): PickedCommit[] {
  return isCommitId(id) ? [{ commit: id, by }] : [];
}

/** What git tells of a commit; undefined where it does not have it here. */
export async function commitTold(folder: string, commit: CommitId): Promise<LoggedCommit | undefined> {
  const run = await git(folder, 'rev-list', '--no-walk', logFormat, '--encoding=UTF-8', commit, '--');
  return loggedIn(run)[0];
}

/** The fields by which commits are told. */
const logFormat = '--format=%H%x00%an%x00%aI%x00%s';

function loggedIn(run: ProgramRun): LoggedCommit[] {
  return formattedLines(run).map(([commit = '', author = '', at = '', subject = '']) => {
    return { commit, author, at: /^\d{4}-/.test(at) ? at : latestTime, subject };
  });
}
