import { setTimeout as delay } from 'node:timers/promises';
import { HodError } from '../../core/errors';
import { factsReadBy } from '../../core/ledger/entries';
import { emptyHead, type After, type Head, type SealedEntry } from '../../core/ledger/entry';
import { Facts, stateKey, type FactKey, type SetFact } from '../../core/ledger/facts';
import { isMade, ledgerForm } from '../form';
import {
  emptyContent,
  sameEngine,
  type Ledger,
  type LedgerAppend,
  type LedgerContent,
  type LedgerOptions,
  type LedgerState,
  type Moment,
  type NeighbourLedger,
} from '../ledger';
import { checkState } from '../check-state';
import { CommitContent, filesOf, foldFacts } from './git/content';
import {
  compactedPath,
  digitsFor,
  entryPath,
  folders,
  headOf,
  commitMessage,
  notWrittenByHod,
  readCommit,
  type LedgerCommit,
  type ObjectId,
} from './git/layout';
import { GitRemote, type GitPlace } from './git/remote';
import { objectsFolder, SeenFile, type Seen } from './git/cache';
import { GitStore, type NewCommit } from './git/store';

/** How often a push is tried that fails while nobody else was first. */
const attempts = { raced: 6, broken: 3, refused: 1 } as const;
/** The longest wait after somebody else was first, in milliseconds. */
const longestWait = 10_000;
/** Who was not first so often does not wait longer any more. */
const patientFor = 6;

/** Where a git ledger is, and what for. */
export interface GitLedgerOptions extends LedgerOptions {
  readonly place: GitPlace;
  /** Where what was fetched is kept for the next run. */
  readonly cache: string;
}

/**
 * Opens the ledger of a product on a reference of a git remote. To write, the remote is asked whether
 * this job may; nothing is made before the first append.
 *
 * Throws `unavailable` where the remote cannot be reached, `denied` where it refuses, `corrupt` where
 * the reference is no ledger, or was taken back.
 */
export async function openGitLedger(options: GitLedgerOptions): Promise<Ledger> {
  const { place, cache, access, waiting } = options;
  const folder = objectsFolder(cache);
  const seen = new SeenFile(cache, place.label);
  const store = await GitStore.open(folder, seen.recall()?.commit);
  const remote = new GitRemote(place, store, waiting);
  const ledger = new GitLedger(options, store, remote, seen);
  try {
    // Both at once; what stands in the way of reading says more than what stands in the way of writing.
    const checks: Promise<unknown>[] = [ledger.readTip(), ...(access === 'write' ? [ledger.mayAppend()] : [])];
    const ended = await Promise.allSettled(checks);
    const failed = ended.find((each) => each.status === 'rejected');
    if (failed !== undefined) {
      throw failed.reason;
    }
  } catch (error) {
    await ledger.close();
    throw error;
  }
  return ledger;
}

/** What an append changes: entries, the facts that they set, and entries whose texts are dropped. */
interface Changes {
  readonly entries: readonly SealedEntry[];
  readonly last: SealedEntry;
  readonly changed: ReadonlyMap<string, SetFact>;
  readonly compacted: readonly number[];
}

/** A commit that is here, and is to be the newest of a ledger. */
interface MadeCommit {
  readonly ledger: GitLedger;
  readonly next: ObjectId;
  readonly expected: ObjectId | undefined;
}

class GitLedger implements Ledger {
  private readonly label: string;
  private readonly product: string;
  private known: LedgerCommit | undefined;
  /** The last entries of other products that were read, and the commits that their references led to before that. */
  private readonly ends = new Map<string, { readonly id: string; readonly seq: number }>();
  /** When that was asked for, and whether nobody has read it since. */
  private askedAt = 0;
  private unread = false;
  /** How often in a row somebody else was first. */
  private lost = 0;
  /** One exchange with the remote at a time: each changes what the repository of this run refers to. */
  private syncing: Promise<unknown> = Promise.resolve();

  constructor(
    private readonly options: GitLedgerOptions,
    private readonly store: GitStore,
    private readonly remote: GitRemote,
    private readonly seen: SeenFile,
  ) {
    this.label = options.place.label;
    this.product = options.product;
  }

  get place(): string {
    return this.remote.address;
  }

  async read(keys: readonly FactKey[], moment: Moment = 'newest'): Promise<LedgerState> {
    const commit = moment === 'known' || this.unread ? this.known : await this.sync();
    this.unread = false;
    const asked = [stateKey, ...keys];
    if (commit === undefined) {
      return { head: emptyHead, facts: new Facts(asked) };
    }
    const content = this.at(commit);
    const state = { head: headOf(commit), facts: await content.read(asked) };
    checkState(state);
    return state;
  }

  /** Asks where the ledger stands. Whoever reads it first then need not ask again. */
  async readTip(): Promise<LedgerCommit | undefined> {
    const commit = await this.sync();
    this.unread = true;
    return commit;
  }

  async append(
    entries: readonly SealedEntry[],
    expected: Head,
    compacted: readonly number[] = [],
  ): Promise<number | undefined> {
    const parent = this.known;
    const last = entries.at(-1);
    if (!this.follows(expected)) {
      return undefined;
    }
    if (last === undefined) {
      return 0;
    }
    const commit = await this.commitOf({ entries, last, compacted });
    const shortened = compacted.length === 0 ? undefined : await this.publishAlone(commit, parent);
    return shortened ?? this.publish([await this.made(commit)]);
  }

  async appendTogether(appends: readonly LedgerAppend[]): Promise<number | undefined> {
    const all = appends.map(({ ledger, ...rest }) => ({ ...rest, ledger: sameEngine(ledger, GitLedger) }));
    if (!all.every(({ ledger, expected }) => ledger.follows(expected))) {
      return undefined;
    }
    const made: MadeCommit[] = [];
    for (const { ledger, entries } of all) {
      const last = entries.at(-1);
      if (last !== undefined) {
        made.push(await ledger.made(await ledger.commitOf({ entries, last, compacted: [] })));
      }
    }
    return made.length === 0 ? 0 : this.publish(made);
  }

  private follows(expected: Head): boolean {
    const head = headOf(this.known);
    return head.seq === expected.seq && head.hash === expected.hash;
  }

  /** Makes a commit that follows the newest one, here. */
  private async made(commit: Omit<NewCommit, 'parent'>): Promise<MadeCommit> {
    const parent = this.known?.id;
    return { ledger: this, next: await this.store.commit({ parent, ...commit }), expected: parent };
  }

  /** What a commit for entries is made of. */
  private async commitOf({ entries, last, compacted }: Omit<Changes, 'changed'>): Promise<Omit<NewCommit, 'parent'>> {
    const content = this.known && this.at(this.known);
    const { facts } = await this.read(
      entries.flatMap(({ entry }) => factsReadBy(entry.action)),
      'known',
    );
    const changed = new Map<string, SetFact>();
    entries.forEach((sealed) => foldFacts(sealed, facts, changed));
    return {
      time: Math.floor(Date.parse(last.entry.at) / 1000),
      ...(await this.changes({ entries, last, changed, compacted }, content)),
    };
  }

  /**
   * Pushes a commit without a parent, so that the remote can forget all commits before. Undefined where the remote did not take it:
   * some remotes accept only commits that follow the newest one.
   */
  private async publishAlone(
    commit: Omit<NewCommit, 'parent'>,
    parent: LedgerCommit | undefined,
  ): Promise<number | undefined> {
    const made = await this.store.commit({ parent: undefined, tree: parent?.tree, ...commit });
    const begun = performance.now();
    const outcome = await this.remote.push([{ ref: this.options.place.ref, next: made, expected: parent?.id }]);
    const milliseconds = performance.now() - begun;
    if (outcome.kind === 'written') {
      await this.advance(made);
      return milliseconds;
    }
    return (await this.readTip())?.id === made ? milliseconds : undefined;
  }

  /** Takes a commit that the remote has taken for the newest. */
  private async advance(made: ObjectId): Promise<void> {
    this.store.advance(made);
    await this.know(made, undefined);
    this.lost = 0;
  }

  /** What a commit for entries changes: the files, and what its message says. */
  private async changes(
    { entries, last, changed, compacted }: Changes,
    content: CommitContent | undefined,
  ): Promise<Pick<NewCommit, 'message' | 'emptied' | 'files'>> {
    const places = entries.map(({ entry }) => entryPath(entry.seq));
    let all = content === undefined ? new Map<string, SetFact>() : await content.besides([...changed.values()]);
    const total = (content?.count ?? 0) + [...changed.keys()].filter((name) => !all.has(name)).length;
    const digits = Math.max(digitsFor(total), content?.digits ?? 0);
    // Where facts lie by more digits than before, all of them are written anew.
    const anew = digits !== content?.digits;
    if (anew && content !== undefined) {
      all = await content.allFacts();
    }
    changed.forEach((fact, name) => all.set(name, fact));
    // Git makes new trees of those that are on the ways to what changed.
    const dropped = compacted.map(entryPath);
    await content?.ways([...places, ...dropped, ...compacted.map(compactedPath)]);
    const state = {
      form: ledgerForm,
      product: this.product,
      seq: last.entry.seq,
      hash: last.hash,
      facts: total,
      digits,
    };
    return {
      message: commitMessage(
        state,
        entries.map(({ entry }) => entry.action),
      ),
      emptied: [...(anew && content !== undefined ? [folders.facts] : []), ...dropped.map((path) => path.join('/'))],
      files: [
        ...entries.map(({ text }, at) => ({ path: places[at] ?? [], content: text })),
        ...filesOf(all.values(), digits),
        ...(compacted.length === 0 ? [] : ((await content?.compactedFiles(compacted)) ?? [])),
      ],
    };
  }

  mayAppend(): Promise<void> {
    return this.remote.probePush();
  }

  async *entries(after?: After): AsyncGenerator<SealedEntry> {
    const commit = await this.sync();
    if (commit !== undefined) {
      yield* this.at(commit).entries(after);
    }
  }

  async snapshot<T>(work: (content: LedgerContent) => Promise<T>): Promise<T> {
    const commit = await this.sync();
    return work(commit === undefined ? emptyContent : this.at(commit));
  }

  async neighbours(): Promise<readonly NeighbourLedger[]> {
    const products = await this.remote.products();
    return products.map(({ product, id }) => ({ product, entries: (after) => this.entriesOf(product, id, after) }));
  }

  close(): Promise<void> {
    return this.store.close();
  }

  /** The entries of another product; none where its reference is no ledger. What was read to its end is not fetched again. */
  private async *entriesOf(product: string, id: string, after: After | undefined): AsyncGenerator<SealedEntry> {
    const end = this.ends.get(product);
    if (end?.id === id && end.seq === after?.seq) {
      return;
    }
    const { place, ...options } = this.options;
    const ref = place.refOf(product);
    const label = place.label.replace(place.ref, ref);
    const opened = openGitLedger({ ...options, product, access: 'read', place: { ...place, ref, label } });
    const ledger = await opened.catch((error: unknown) => {
      if (error instanceof HodError && error.code === 'ledger-corrupt') {
        return undefined;
      }
      throw error;
    });
    if (ledger !== undefined) {
      try {
        let seq = after?.seq ?? 0;
        for await (const sealed of ledger.entries(after)) {
          seq = sealed.entry.seq;
          yield sealed;
        }
        this.ends.set(product, { id, seq });
      } finally {
        await ledger.close();
      }
    }
  }

  private at(commit: LedgerCommit): CommitContent {
    return new CommitContent(commit, this.label, this.store, this.remote);
  }

  /** Pushes the commits of one or several ledgers. Where that is not known to have worked, the remote is asked what is there. */
  private async publish(made: readonly MadeCommit[]): Promise<number | undefined> {
    const moves = made.map(({ ledger, next, expected }) => ({ ref: ledger.options.place.ref, next, expected }));
    const stores = made.map(({ ledger }) => ledger.store);
    for (let attempt = 1; ; attempt += 1) {
      const begun = performance.now();
      const outcome = await this.remote.push(moves, stores);
      const milliseconds = performance.now() - begun;
      if (outcome.kind === 'written') {
        await Promise.all(made.map(({ ledger, next }) => ledger.advance(next)));
        return milliseconds;
      }
      if (outcome.kind === 'raced') {
        await this.giveWay();
      }
      const there = await Promise.all(made.map(async ({ ledger }) => (await ledger.readTip())?.id));
      if (made.every(({ next }, at) => there[at] === next)) {
        return milliseconds;
      }
      if (made.some(({ expected }, at) => there[at] !== expected)) {
        return undefined;
      }
      if (attempt === attempts[outcome.kind]) {
        throw outcome.error;
      }
    }
  }

  /**
   * Waits a while, by chance, and longer the more often somebody else was first. Many who decide at the same
   * time would keep each other from it: of all that they do, one thing counts. Who lost very often comes before
   * those who only begin, and waits less and less.
   */
  private async giveWay(): Promise<void> {
    this.lost += 1;
    const turn = performance.now() - this.askedAt;
    const turns = 2 ** Math.min(this.lost - 1, 4) / Math.max(1, this.lost - patientFor);
    await delay(Math.min(longestWait, turn * turns) * Math.random());
  }

  /** Asks the remote where the ledger stands. Throws `ledger-rewritten` where it stands behind what was seen. */
  private sync(): Promise<LedgerCommit | undefined> {
    const next = this.syncing.then(async () => {
      this.askedAt = performance.now();
      // What others see meanwhile may be newer than what is fetched now.
      const seen = this.seen.recall();
      const id = await this.remote.newest();
      if (id === undefined) {
        if (seen !== undefined) {
          throw this.gone();
        }
        return (this.known = undefined);
      }
      return id === this.known?.id ? this.known : this.know(id, seen);
    });
    this.syncing = next.catch(() => undefined);
    return next;
  }

  private async know(id: ObjectId, seen: Seen | undefined): Promise<LedgerCommit> {
    const content = await this.store.read(id);
    if (content === undefined) {
      throw notWrittenByHod(this.label, `the commit ${id.slice(0, 12)} of it is missing`);
    }
    const commit = readCommit(id, content, this.label);
    const { product, seq, form } = commit.state;
    if (product !== this.product) {
      throw notWrittenByHod(this.label, `it holds the ledger of ${product}, and this is ${this.product}`);
    }
    isMade(form, this.label);
    if (seen !== undefined && seen.commit !== id && !commit.parents.includes(seen.commit)) {
      const hash = seen.seq <= seq ? (await this.at(commit).hashes([seen.seq])).get(seen.seq) : undefined;
      if (hash !== seen.hash) {
        throw this.rewritten(seen.seq, seq);
      }
    }
    this.known = commit;
    if (seen?.commit !== id) {
      await this.seen.remember(commit);
    }
    return commit;
  }

  private rewritten(before: number, now: number): HodError {
    return new HodError('ledger-rewritten', {
      what: 'the ledger was rewritten',
      object: this.label,
      why:
        now < before
          ? `it stood at entry ${before} when it was last seen from here, and stands at entry ${now}`
          : `entry ${before}, which was last seen from here, is another one now`,
      next: 'take the reference back to what it was (docs/ledger.md); where this was on purpose, remove the folder .hod/git, which remembers',
    });
  }

  private gone(): HodError {
    return new HodError('ledger-missing', {
      what: 'the ledger is gone',
      object: this.label,
      why: 'it was seen from here before, and the remote has no such reference any more',
      next: 'restore the reference, or import an export of it (docs/ledger.md); where it is to begin anew, remove the folder .hod/git, which remembers',
    });
  }
}
