import { delimiter } from 'node:path';
import { setTimeout as delay } from 'node:timers/promises';
import { retrying, silentWait, tellingOnce } from '../../../core/retrying';
import { contended, ledgerProblem, type LedgerCause } from '../../problems';
import type { ObjectId } from './layout';
import { gitEnvironment, runGit, type GitRun, type GitSetting } from './processes';
import { GitFailure, newestRef, type GitStore } from './store';

/**
 * A remote that stalls must not hold the pipeline; git ends with all processes that it started.
 * @limit one exchange with a git remote | ms | `ledger-unavailable`
 */
const patience = 120_000;
/** How often something is tried that failed in a way that may pass, and the first pause between, in milliseconds. */
const attempts = 4;
const firstDelay = 250;

type Right = 'read' | 'write';

/** The name of the remote in a repository of ours. */
const name = 'ledger';

/** Where a ledger is, and how this job gets there. */
export interface GitPlace {
  /** What people call it: the reference, and the remote. */
  readonly label: string;
  readonly ref: string;
  /** The same for a product of another name. */
  readonly refOf: (product: string) => string;
  /** Where the remote is: for git, as `remote.*.url` of a clone says it. */
  readonly url: string;
  /** How the clone, the user and the machine reach remotes: settings of git. They may hold secrets. */
  readonly settings: readonly GitSetting[];
  /** The same of this remote alone, without its name. */
  readonly remoteSettings: readonly GitSetting[];
  /** Where git runs: what is relative in `url` is so to it. */
  readonly folder: string;
}

/** How much is fetched with an object: nothing, or all that it leads to. */
export type Closure = 'alone' | 'whole';

/**
 * How a push ended. `raced`: somebody else was at it; `broken`: whether the reference moved is not known. The
 * error is for where that is all there is to say.
 */
export type PushOutcome =
  { readonly kind: 'written' } | { readonly kind: 'raced' | 'broken' | 'refused'; readonly error: Error };

/** A reference that is to lead from one commit to another. */
export interface ReferenceMove {
  readonly ref: string;
  readonly next: ObjectId;
  readonly expected: ObjectId | undefined;
}

/** The repository that others share: what is fetched from it, and pushed to it. */
export class GitRemote {
  private readonly settings: readonly GitSetting[];
  private readonly notice: ReturnType<typeof tellingOnce>;

  constructor(
    private readonly place: GitPlace,
    private readonly store: GitStore,
    waiting: (text: string) => void,
  ) {
    this.notice = tellingOnce(waiting);
    this.settings = [
      // A server that stalls is given up; what the user set goes before.
      ['http.lowSpeedLimit', '1000'],
      ['http.lowSpeedTime', '60'],
      ...place.settings,
      [`remote.${name}.url`, place.url],
      ...place.remoteSettings.map(([key, value]): GitSetting => [`remote.${name}.${key}`, value]),
      // What was not fetched can be: git need not have it to go on.
      [`remote.${name}.promisor`, 'true'],
      ['gc.auto', '0'],
      ['maintenance.auto', 'false'],
      ['protocol.version', '2'],
      ['fetch.writeCommitGraph', 'false'],
      ['advice.fetchShowForcedUpdates', 'false'],
    ];
  }

  /**
   * Fetches the newest commit, with the first levels of its tree where the remote sends parts, and
   * with all of it where it does not. Undefined where there is no such reference.
   */
  async newest(): Promise<ObjectId | undefined> {
    const run = await this.asking(
      ['fetch', ...quietly, '--depth=1', '--filter=tree:2', name, `+${this.place.ref}:${newestRef}`],
      (ended) => isUnknownReference(ended),
    );
    return run.exitCode === 0 ? this.store.newest() : undefined;
  }

  /** The other products that have a reference of the same form, and the commits that these lead to. */
  async products(): Promise<{ product: string; id: string }[]> {
    const { ref, refOf } = this.place;
    // No name of a product has a star in it; without one, all products have the same reference.
    const [before = '', after = ''] = refOf('*').split('*');
    const run = await this.asking(['ls-remote', '--quiet', name, refOf('*')], () => false);
    return run.stdout.split('\n').flatMap((line) => {
      const [id = '', each = ''] = line.split('\t');
      const rest = each.slice(before.length);
      const product = after === '' ? rest : rest.slice(0, Math.max(0, rest.indexOf(after)));
      return each !== ref && each !== '' && refOf(product) === each ? [{ product, id }] : [];
    });
  }

  /** Fetches objects that are not here; what is here is not fetched again, nor what it leads to. */
  async objects(ids: readonly ObjectId[], closure: Closure): Promise<void> {
    // It is not to be told what is here: it would think that everything is that these lead to.
    const settings: GitSetting[] = [['fetch.negotiationAlgorithm', 'noop']];
    const filter = closure === 'alone' ? '--filter=tree:0' : '--no-filter';
    await this.asking(['fetch', ...quietly, filter, '--stdin', name], () => false, {
      settings,
      input: ids.map((id) => `${id}\n`).join(''),
    });
  }

  /** Names the remote, for people. */
  get address(): string {
    return this.place.url.replace(/\/\/[^/]*@/, '//');
  }

  /**
   * Moves references from one commit each to the one that follows it, all or none, and only where each is still there. Throws
   * where this job may not.
   *
   * @param stores Where the commits are that are not in the repository of this ledger.
   */
  async push(moves: readonly ReferenceMove[], stores: readonly GitStore[] = []): Promise<PushOutcome> {
    const leases = moves.map(({ ref, expected }) => `--force-with-lease=${ref}:${expected ?? ''}`);
    const targets = moves.map(({ ref, next }) => `${next}:${ref}`);
    const atomic = moves.length > 1 ? ['--atomic'] : [];
    const run = await this.git(['push', '--porcelain', '--no-verify', ...atomic, ...leases, name, ...targets], {
      env: environmentWith(this.store, stores),
    });
    if (run.exitCode === 0) {
      return { kind: 'written' };
    }
    const rejections = [...run.stdout.matchAll(/^!\t[^\t]*\t\[(?:remote )?rejected\] \((.*)\)$/gm)].flatMap(
      ([, each]) => each ?? [],
    );
    // Git says of references that it left alone only because of others that it did.
    const why = rejections.find((each) => !/^atomic (push|transaction) failed/.test(each)) ?? rejections[0];
    const raced = /stale info|fetch first|non-fast-forward|failed to update ref|cannot lock ref|incorrect old value/;
    if (raced.test(`${why ?? ''} ${run.stderr}`)) {
      return { kind: 'raced', error: contended(this.place.label, 'others write it all the time, or hold it locked') };
    }
    if (why === undefined) {
      const error = this.problem(run, 'write');
      if (mayPass(run)) {
        return { kind: 'broken', error };
      }
      throw error;
    }
    const says = ['it says', [why, ...remoteLines(run)].join('; ')].join(': ');
    const { label } = this.place;
    return {
      kind: 'refused',
      error: ledgerProblem(new GitFailure(why), { label, says: `[rejected] ${why}`, causes, tried: says }),
    };
  }

  /**
   * Throws where this job cannot write to the remote, as far as that is seen without writing: which
   * references it takes, it says only when one comes.
   */
  async probePush(): Promise<void> {
    // What is not there cannot be removed: whoever may try hears so.
    await this.asking(
      ['push', '--dry-run', '--porcelain', '--no-verify', name, ':refs/hod-probe/none'],
      ({ stderr }) => /remote ref does not exist|unable to delete/.test(stderr),
      { right: 'write' },
    );
  }

  /** Asks the remote again for as long as it fails in a way that may pass. */
  private asking(
    args: readonly string[],
    isAnswer: (run: GitRun) => boolean,
    { right = 'read', ...more }: { right?: Right; settings?: readonly GitSetting[]; input?: string } = {},
  ): Promise<GitRun> {
    const begun = performance.now();
    return retrying(
      async () => {
        const run = await this.git(args, more);
        if (run.exitCode !== 0 && !isAnswer(run)) {
          throw new FailedRun(run);
        }
        return run;
      },
      async (error, attempt) => {
        if (!(error instanceof FailedRun)) {
          throw error;
        }
        // One that took all the time that there is does not get as much again.
        if (!mayPass(error.run) || attempt === attempts || performance.now() - begun > patience) {
          throw this.problem(error.run, right, attempt > 1 ? `tried ${attempt} times` : undefined);
        }
        await delay(firstDelay * 2 ** (attempt - 1) * (0.5 + Math.random()));
      },
    );
  }

  private git(
    args: readonly string[],
    {
      settings = [],
      input = '',
      env = {},
    }: { settings?: readonly GitSetting[]; input?: string; env?: NodeJS.ProcessEnv } = {},
  ): Promise<GitRun> {
    // It has waited for so long when this is called.
    const tell = (): void => this.notice(Infinity, `waiting for the ledger: ${this.place.label} does not answer`);
    const telling = setTimeout(tell, silentWait);
    return runGit(args, {
      env: { ...gitEnvironment(this.store, [...this.settings, ...settings]), ...env },
      cwd: this.place.folder,
      input,
      timeout: patience,
    }).finally(() => clearTimeout(telling));
  }

  private problem(run: GitRun, right: Right, tried?: string): Error {
    const says = saysOf(run);
    const error = new GitFailure(
      says
        .split('\n')
        .filter((line) => line !== '')
        .slice(0, 3)
        .join('; ') || 'git failed',
    );
    return ledgerProblem(error, { label: this.place.label, says: `${right}: ${says}`, causes, tried });
  }
}

/** Nothing that git does beside fetching what it is told. */
const quietly = [
  '--quiet',
  '--no-tags',
  '--no-write-fetch-head',
  '--no-auto-maintenance',
  '--no-recurse-submodules',
  '--no-show-forced-updates',
] as const;

/** Lets git find the objects of other repositories too, and know at which commits their histories begin. */
function environmentWith(own: GitStore, stores: readonly GitStore[]): NodeJS.ProcessEnv {
  const others = stores.filter((each) => each !== own);
  return others.length === 0
    ? {}
    : {
        GIT_ALTERNATE_OBJECT_DIRECTORIES: others.map(({ objects }) => quotedPath(objects)).join(delimiter),
        GIT_SHALLOW_FILE: own.joinedShallow(others),
      };
}

/** A path as lists of paths hold it: in quotes, what is separated by colons may have one (git(1), "GIT_ALTERNATE_OBJECT_DIRECTORIES"). */
function quotedPath(path: string): string {
  return `"${path.replaceAll(/["\\]/g, (each) => `\\${each}`)}"`;
}

class FailedRun extends Error {
  constructor(readonly run: GitRun) {
    super(run.stderr);
  }
}

/** What git said, without what it says of the remote's lack of filters. */
function saysOf({ stdout, stderr }: GitRun): string {
  return `${stderr}${stdout}`.replace(/^warning: filtering not recognized.*\n/m, '').trim();
}

/** What the remote said itself. */
function remoteLines({ stderr }: GitRun): string[] {
  return [...stderr.matchAll(/^remote: (.*\S)\s*$/gm)].map(([, line = '']) => line).slice(0, 5);
}

function isUnknownReference({ stderr }: GitRun): boolean {
  return /couldn't find remote ref|no such remote ref/i.test(stderr);
}

/** What git says of a connection that fails, and of a server that is busy. */
const connectionFault =
  /connection (refused|reset|timed out)|failed to connect|couldn't connect|timed out|early eof|unexpected disconnect|hung up|error: 5\d\d|HTTP 5\d\d|empty reply|broken pipe|recv failure|send failure|too slow/i;
/** What it says of a name that is not found, which may be for now, and of what two do at once. */
const passingFault = /could not resolve|cannot lock ref|unable to create '.*\.lock'|shallow file has changed/i;

/** What it says of a repository whose objects have names of another algorithm than ours. */
const otherAlgorithm = /hash algorithm|mismatched algorithms|object format/i;

function mayPass({ stderr }: GitRun): boolean {
  return !otherAlgorithm.test(stderr) && (connectionFault.test(stderr) || passingFault.test(stderr));
}

/** The ways in which a remote fails, each seen in what git says: the right that was needed first. */
const causes: readonly LedgerCause[] = [
  {
    pattern: /git is not installed/,
    code: 'ledger-unavailable',
    why: 'git is not installed here',
    next: 'install git (2.32 or newer), or name another ledger under `ledger:` in hod.yaml',
  },
  {
    pattern: otherAlgorithm,
    code: 'ledger-missing',
    why: 'the remote names its objects by SHA-256, and Hod keeps ledgers in repositories with SHA-1 alone',
    next: 'name a remote with SHA-1, or PostgreSQL, under `ledger:` in hod.yaml',
  },
  {
    pattern: /^\[rejected\]/,
    code: 'ledger-denied',
    why: 'the remote refuses to let this job write the reference',
    next: 'let jobs write it, or name one that they may write with `ref:` under `ledger:` in hod.yaml, such as refs/heads/hod/{product}; nothing was tagged',
  },
  {
    pattern:
      /^write: [^]*(error: 40[13]|permission denied|authentication failed|could not read username|access denied|not allowed|read-only|insufficient permission|not permitted|denied to)/i,
    code: 'ledger-denied',
    why: 'this job may not write to the remote',
    next: 'give the job the right to write to the repository (push), not only to read it; nothing was tagged',
  },
  {
    pattern:
      /error: 40[13]|permission denied|authentication failed|could not read (username|password)|access denied|host key verification/i,
    code: 'ledger-denied',
    why: 'the remote refuses this job, or nobody is logged in to it',
    next: 'see that `git ls-remote` works in this job; it needs the same access',
  },
  {
    pattern: /could not resolve|name or service not known/i,
    code: 'ledger-unavailable',
    why: 'there is no host of this name',
    next: 'correct the URL of the remote (`git remote --verbose`)',
  },
  {
    pattern: connectionFault,
    code: 'ledger-unavailable',
    why: 'the remote does not answer, or broke off',
    next: 'run the command again when it does; nothing was tagged by this run',
  },
  {
    pattern: /does not appear to be a git repository|not found|does not exist|no such file|error: 404/i,
    code: 'ledger-missing',
    why: 'there is no repository where the remote is said to be',
    next: 'correct the URL of the remote (`git remote --verbose`), or `remote:` under `ledger:` in hod.yaml',
  },
  {
    pattern: /dubious ownership/i,
    code: 'ledger-denied',
    why: 'git does not trust a repository that belongs to another user',
    next: 'allow it with `git config --global --add safe.directory PATH`, and run the command again',
  },
  {
    pattern: /no space left|disk quota/i,
    code: 'ledger-unavailable',
    why: 'a disk is full, here or at the remote',
    next: 'free some space and run the command again; nothing was tagged',
  },
  {
    pattern: /bad object|corrupt|fsck|missing blob|missing tree|unable to read/i,
    code: 'ledger-corrupt',
    why: 'an object of the ledger is damaged, here or at the remote',
    next: 'remove `.hod/git` and run the command again; where that does not help, restore the reference from a backup',
  },
];
