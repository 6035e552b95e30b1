import { readFile, realpath } from 'node:fs/promises';
import { relative, resolve } from 'node:path';
import { isFollowed } from '../core/build/following';
import { isCommitId, type CommitId } from '../core/commit';
import type { Standing } from '../core/release/knowledge';
import type { Holding } from '../core/release/knowledge';
import { remoteIdentity } from '../core/remote-identity';
import { isInside } from '../system/plain-files';
import { ruleFiles } from './checkout-rules';
import type { Config } from './config';
import { sharedRemote } from './git';
import { askRemoteGit, remoteProblem } from './remote-git';

/** The heads of the branches of a remote. */
interface Heads {
  readonly remote: string;
  /** The branch that the remote calls its default; undefined where it names none. */
  readonly usual: string | undefined;
  readonly heads: ReadonlyMap<string, CommitId>;
}
/** A file that rules are read from: its path in the clone, and its text. */
interface RuleText {
  readonly path: string;
  readonly text: string;
}
type Asked<T> = T | { readonly why: string };

/** So many followed branches are looked at. */
const mostBranches = 50;

/** Asks the remote that all clones of a product share: `origin`, or the only one. It is asked once. */
export class SharedRemoteReader {
  private found: Promise<{ readonly name: string; readonly identity: string } | undefined> | undefined;
  private heads: Promise<Asked<Heads>> | undefined;
  private texts: Promise<Asked<readonly RuleText[]>> | undefined;

  constructor(private readonly config: Pick<Config, 'folder' | 'files' | 'trust' | 'environments'>) {}

  private get remote() {
    this.found ??= sharedRemote(this.config.folder).then(
      (found) => found && { name: found.name, identity: remoteIdentity(placeOf(found.url, this.config.folder)) },
    );
    return this.found;
  }

  /** Finds the followed branch at whose head all files that rules are read from stand as they are here. */
  async standing(branches: readonly string[] | undefined): Promise<Standing> {
    const asked = await this.askHeads();
    if ('why' in asked) {
      return asked;
    }
    const { remote, usual, heads } = asked;
    const patterns = branches ?? (usual === undefined ? ['main', 'master'] : [usual]);
    // A branch that is named first is looked at first.
    const placeOfBranch = (name: string): number => patterns.findIndex((pattern) => isFollowed(name, [pattern]));
    const followed = [...heads]
      .filter(([name]) => placeOfBranch(name) >= 0)
      .sort(([a], [b]) => placeOfBranch(a) - placeOfBranch(b))
      .slice(0, mostBranches);
    if (followed.length === 0) {
      return { why: `${remote} has no branch ${patterns.join(', ')}` };
    }
    const problems: string[] = [];
    for (const [branch, head] of followed) {
      const why = await this.whyOtherwise(head, branch);
      if (why === undefined) {
        return { source: { remote, branch } };
      }
      problems.push(why);
    }
    return { why: problems.slice(0, 3).join('; ') };
  }

  /** Finds the branches of the remote that contain a commit: as far as the clone knows, and else by asking. */
  async holding(commit: CommitId, branches: readonly string[]): Promise<Holding> {
    const remote = await this.remote;
    if (remote === undefined) {
      return { remote: undefined, branches: [], why: noRemote };
    }
    const { identity } = remote;
    const prefix = `refs/remotes/${remote.name}/`;
    const run = await this.git('for-each-ref', '--format=%(refname)', `--contains=${commit}`, prefix);
    const here = run.stdout.split('\n').map((name) => name.slice(prefix.length));
    const known = run.exitCode === 0 ? branches.filter((branch) => here.includes(branch)) : [];
    const others = branches.filter((branch) => !known.includes(branch));
    if (others.length === 0) {
      return { remote: identity, branches: known, why: '' };
    }
    const asked = await this.askHeads();
    if ('why' in asked) {
      return { remote: identity, branches: known, why: asked.why };
    }
    const found: string[] = [];
    for (const branch of others) {
      const head = asked.heads.get(branch);
      if (head !== undefined && (await this.contains(head, commit, branch))) {
        found.push(branch);
      }
    }
    const missing = others.filter((branch) => !found.includes(branch));
    const why = missing.length === 0 ? '' : `${missing.join(', ')} at ${identity} does not contain it`;
    return { remote: identity, branches: [...known, ...found], why };
  }

  private askHeads(): Promise<Asked<Heads>> {
    this.heads ??= this.readHeads();
    return this.heads;
  }

  private async readHeads(): Promise<Asked<Heads>> {
    const remote = await this.remote;
    if (remote === undefined) {
      return { why: noRemote };
    }
    const run = await this.git('ls-remote', '--symref', remote.name, 'HEAD', 'refs/heads/*');
    if (run.exitCode !== 0) {
      return { why: `${remote.identity} did not say where its branches are: ${remoteProblem(run)}` };
    }
    const lines = run.stdout.split('\n').map((line) => line.split('\t'));
    const usual = lines.flatMap(([first = '', name]) =>
      name === 'HEAD' && first.startsWith('ref: refs/heads/') ? [first.slice('ref: refs/heads/'.length)] : [],
    )[0];
    const heads = lines.flatMap(([id = '', name = '']): [string, CommitId][] =>
      name.startsWith('refs/heads/') && isCommitId(id) ? [[name.slice('refs/heads/'.length), id]] : [],
    );
    return { remote: remote.identity, usual, heads: new Map(heads) };
  }

  /** Why the files of the rules do not stand at a commit as they are here; undefined where they do. */
  private async whyOtherwise(head: CommitId, branch: string): Promise<string | undefined> {
    const missing = await this.fetchMissing(head, branch);
    if (missing !== undefined) {
      return missing;
    }
    const files = await this.ruleTexts();
    if ('why' in files) {
      return files.why;
    }
    for (const { path, text } of files) {
      const there = await this.git('cat-file', 'blob', `${head}:${path}`);
      if (there.exitCode !== 0 || plain(there.stdout) !== text) {
        return `${path} differs from the head of ${branch} (${head.slice(0, 12)})`;
      }
    }
    return undefined;
  }

  private ruleTexts(): Promise<Asked<readonly RuleText[]>> {
    this.texts ??= this.readRuleTexts();
    return this.texts;
  }

  /** The files that rules are read from, as they are here. */
  private async readRuleTexts(): Promise<Asked<readonly RuleText[]>> {
    const top = (await this.git('rev-parse', '--show-toplevel')).stdout.trim();
    const texts: RuleText[] = [];
    for (const file of ruleFiles(this.config)) {
      const path = await realpath(resolve(this.config.folder, file));
      if (!isInside(top, path)) {
        return { why: `${file} is not in this clone` };
      }
      texts.push({ path: relative(top, path), text: plain(await readFile(path, 'utf8')) });
    }
    return texts;
  }

  /** Brings a commit that the clone lacks; answers why that failed. */
  private async fetchMissing(head: CommitId, branch: string): Promise<string | undefined> {
    if ((await this.git('cat-file', '-e', `${head}^{commit}`)).exitCode === 0) {
      return undefined;
    }
    const remote = await this.remote;
    const shallow = (await this.git('rev-parse', '--is-shallow-repository')).stdout.trim() === 'true';
    const depth = shallow ? ['--depth=1'] : [];
    const quietly = ['--quiet', '--no-tags', '--no-write-fetch-head', '--no-recurse-submodules'];
    const run = await this.git('fetch', ...quietly, ...depth, remote?.name ?? '', `refs/heads/${branch}`);
    return run.exitCode === 0 && (await this.git('cat-file', '-e', `${head}^{commit}`)).exitCode === 0
      ? undefined
      : `the head of ${branch} cannot be fetched: ${remoteProblem(run)}`;
  }

  private async contains(head: CommitId, commit: CommitId, branch: string): Promise<boolean> {
    return (
      head === commit ||
      ((await this.fetchMissing(head, branch)) === undefined &&
        (await this.git('merge-base', '--is-ancestor', commit, head)).exitCode === 0)
    );
  }

  private git(...args: string[]) {
    return askRemoteGit(this.config.folder, ...args);
  }
}

const noRemote = 'this folder is in no git clone with a remote origin, or a single other one';

/** A path of this machine, whole: another clone may be elsewhere. */
function placeOf(url: string, folder: string): string {
  return /^[a-z][a-z0-9+.-]*:\/\/|^[^/]+:/i.test(url) ? url : resolve(folder, url);
}

/** A text whatever its line ends are: git may have changed them. */
function plain(text: string): string {
  return text.replaceAll('\r\n', '\n');
}
