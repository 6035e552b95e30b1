import { setTimeout as delay } from 'node:timers/promises';
import { HodError } from '../../core/errors';
import { sha256, type Digest } from '../../core/oci/digest';
import { factsReadBy } from '../../core/release/actions';
import {
  changedOutside,
  emptyHead,
  foldInto,
  headAfter,
  openEntry,
  type Head,
  type SealedEntry,
} from '../../core/release/entry';
import { factName, Facts, sealOf, type FactKey, type SetFact } from '../../core/release/facts';
import { ledgerForms, stateOfForm } from '../forms';
import type { Ledger, LedgerContent, LedgerOptions, LedgerState, Moment } from '../ledger';
import { factsCorrupt } from '../problems';
import {
  entryAt,
  entryPath,
  factPath,
  folders,
  headOf,
  messageOf,
  notWrittenByHod,
  readCommit,
  readFact,
  readTree,
  writeFact,
  pathLength,
  type Folder,
  type GitFact,
  type LedgerCommit,
  type ObjectId,
  type Path,
} from './git/layout';
import { GitRemote, type Closure, type GitPlace } from './git/remote';
import { makeFolder, SeenFile, type Seen } from './git/seen';
import { GitStore, type ChangedFile } from './git/store';

/** A ledger with no more facts than this is fetched as a whole: asking for parts takes longer. */
const small = 2_000;
/** How many entries or facts are read at a time where all are. */
const filesAtOnce = 1_000;
/** How often a push is tried that fails while nobody else was first. */
const attempts = { raced: 6, broken: 3, refused: 1 } as const;
/** The longest wait after somebody else was first, in milliseconds. */
const longestWait = 10_000;

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
export async function openGitLedger({ place, cache, product, access, waiting }: GitLedgerOptions): Promise<Ledger> {
  const kept = makeFolder(cache);
  const seen = new SeenFile(cache, place.label);
  const store = await GitStore.open(kept ? cache : undefined, seen.recall()?.commit);
  const remote = new GitRemote(place, store, waiting);
  const ledger = new GitLedger(place.label, product, store, remote, seen);
  try {
    // Both at once; what stands in the way of reading says more than what stands in the way of writing.
    const checks = [ledger.read([]), ...(access === 'write' ? [ledger.mayAppend()] : [])];
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

class GitLedger implements Ledger {
  private known: LedgerCommit | undefined;
  /** When that was asked for, and whether nobody has read it since. */
  private askedAt = 0;
  private unread = false;
  /** How often in a row somebody else was first. */
  private lost = 0;
  /** One exchange with the remote at a time: each changes what the repository of this run refers to. */
  private syncing: Promise<unknown> = Promise.resolve();

  constructor(
    private readonly label: string,
    private readonly product: string,
    private readonly store: GitStore,
    private readonly remote: GitRemote,
    private readonly seen: SeenFile,
  ) {}

  async read(keys: readonly FactKey[], moment: Moment = 'newest'): Promise<LedgerState> {
    const commit = moment === 'known' || this.unread ? this.known : await this.sync();
    this.unread = false;
    if (commit === undefined) {
      return { head: emptyHead, facts: new Facts(keys) };
    }
    const content = this.at(commit);
    return content.isOlder ? content.fold() : { head: headOf(commit), facts: await content.read(keys) };
  }

  async append(entries: readonly SealedEntry[], expected: Head): Promise<number | undefined> {
    const parent = this.known;
    const head = headOf(parent);
    const last = entries.at(-1);
    if (head.seq !== expected.seq || head.hash !== expected.hash) {
      return undefined;
    }
    if (last === undefined) {
      return 0;
    }
    const content = parent && this.at(parent);
    const older = content?.isOlder === true;
    const { facts } = await this.read(
      entries.flatMap(({ entry }) => factsReadBy(entry.action)),
      'known',
    );
    const before = older ? new Set<string>() : new Set(facts.all().map(({ key }) => factName(key)));
    const changed = older ? await content.folded() : new Map<string, GitFact>();
    entries.forEach((sealed) => foldFiles(sealed, facts, changed));
    const files: ChangedFile[] = [
      ...entries.map(({ entry, text }) => ({ path: entryPath(entry.seq), content: text })),
      ...[...changed.values()].map((fact) => ({ path: factPath(fact), content: writeFact(fact) })),
    ];
    await content?.ways(files.map(({ path }) => path));
    const added = [...changed.keys()].filter((name) => !before.has(name)).length;
    const state = {
      form: ledgerForms.length,
      product: this.product,
      seq: last.entry.seq,
      hash: last.hash,
      facts: (older ? 0 : (parent?.state.facts ?? 0)) + added,
    };
    const made = await this.store.commit({
      parent: parent?.id,
      time: Math.floor(Date.parse(last.entry.at) / 1000),
      message: messageOf(
        state,
        entries.map(({ entry }) => entry.action.kind),
      ),
      emptied: older ? [folders.facts] : [],
      files,
    });
    return this.publish(made, parent?.id);
  }

  mayAppend(): Promise<void> {
    return this.remote.probePush();
  }

  async *entries(): AsyncGenerator<SealedEntry> {
    const commit = await this.sync();
    if (commit !== undefined) {
      yield* this.at(commit).entries();
    }
  }

  async snapshot<T>(work: (content: LedgerContent) => Promise<T>): Promise<T> {
    const commit = await this.sync();
    return work(commit === undefined ? { entries: nothing, facts: nothing } : this.at(commit));
  }

  close(): Promise<void> {
    return this.store.close();
  }

  private at(commit: LedgerCommit): CommitContent {
    return new CommitContent(commit, this.label, this.store, this.remote);
  }

  /** Pushes a commit. Where that is not known to have worked, the remote is asked what is there. */
  private async publish(made: ObjectId, parent: ObjectId | undefined): Promise<number | undefined> {
    for (let attempt = 1; ; attempt += 1) {
      const begun = performance.now();
      const outcome = await this.remote.push(made, parent);
      const milliseconds = performance.now() - begun;
      if (outcome.kind === 'written') {
        this.store.advance(made);
        await this.know(made, undefined);
        this.lost = 0;
        return milliseconds;
      }
      if (outcome.kind === 'raced') {
        await this.giveWay();
      }
      const there = await this.sync();
      if (there?.id === made) {
        return milliseconds;
      }
      if (there?.id !== parent) {
        // Who decides again reads first, and this is what is there now.
        this.unread = true;
        return undefined;
      }
      if (attempt === attempts[outcome.kind]) {
        throw outcome.error;
      }
    }
  }

  /**
   * Waits a while, by chance, and longer the more often somebody else was first. Many who decide at the same
   * time would keep each other from it: of all that they do, one thing counts.
   */
  private async giveWay(): Promise<void> {
    this.lost += 1;
    const turn = performance.now() - this.askedAt;
    await delay(Math.min(longestWait, turn * 2 ** Math.min(this.lost - 1, 4)) * Math.random());
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
    stateOfForm(form, this.label);
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

/** A ledger as of one commit. What is missing of it here is fetched. */
class CommitContent implements LedgerContent {
  constructor(
    private readonly commit: LedgerCommit,
    private readonly label: string,
    private readonly store: Pick<GitStore, 'read'>,
    private readonly remote: Pick<GitRemote, 'objects'>,
  ) {}

  /** Its facts have an older form: they are folded anew. */
  get isOlder(): boolean {
    return stateOfForm(this.commit.state.form, this.label) !== 'newest';
  }

  /** Those of the named facts that are set. */
  async read(keys: readonly FactKey[]): Promise<Facts> {
    const unique = [...new Map(keys.map((key) => [factName(key), key])).values()];
    const paths = new Map(unique.map((key) => [factPath(key), key]));
    const facts = new Facts(unique);
    for (const [path, content] of await this.files([...paths.keys()])) {
      const fact = checkedFact(readFact(content, path), path);
      facts.load({ kind: fact.kind, key: fact.key }, fact.text);
    }
    return facts;
  }

  async *entries(): AsyncGenerator<SealedEntry> {
    let before = emptyHead;
    for await (const [path, content] of this.filesIn(folders.entries)) {
      const text = content.toString('utf8');
      const sealed = openEntry({ text, hash: sha256(text) }, before);
      if (entryAt(path) !== sealed.entry.seq || sealed.entry.product !== this.commit.state.product) {
        throw changedOutside(entryAt(path), `it calls itself ${sealed.entry.seq} of ${sealed.entry.product}`);
      }
      yield sealed;
      before = headAfter(sealed);
    }
    const { seq, hash } = this.commit.state;
    if (before.seq !== seq || before.hash !== hash) {
      throw changedOutside(seq, `it is said to be the last, and ${before.seq} is, or it is another one`);
    }
  }

  async *facts(): AsyncGenerator<SetFact> {
    if (this.isOlder) {
      for (const { kind, key, seq, text } of (await this.folded()).values()) {
        yield { key: { kind, key }, text, seq };
      }
      return;
    }
    const page: GitFact[] = [];
    const hashes = new Map<number, Digest>();
    const take = async (): Promise<SetFact[]> => {
      const setters = [...new Set(page.map(({ seq }) => seq))].filter((seq) => !hashes.has(seq));
      (await this.hashes(setters)).forEach((hash, seq) => hashes.set(seq, hash));
      return page.splice(0).map(({ kind, key, seq, entry, text }) => {
        if (hashes.get(seq) !== entry) {
          throw factsCorrupt(factName({ kind, key }), `entry ${seq} did not set it so, or there is none`);
        }
        return { key: { kind, key }, text, seq };
      });
    };
    for await (const [path, content] of this.filesIn(folders.facts)) {
      page.push(checkedFact(readFact(content, path), path));
      if (page.length === 500) {
        yield* await take();
      }
    }
    yield* await take();
  }

  /** The head and all facts, folded from the entries. */
  async fold(): Promise<LedgerState> {
    const facts = new Facts();
    for await (const { entry } of this.entries()) {
      foldInto(facts, entry);
    }
    return { head: headOf(this.commit), facts };
  }

  /** The facts as {@link fold} makes them, by name. */
  async folded(): Promise<Map<string, GitFact>> {
    const facts = new Facts();
    const files = new Map<string, GitFact>();
    for await (const sealed of this.entries()) {
      foldFiles(sealed, facts, files);
    }
    return files;
  }

  /** The hashes of entries that there are. */
  async hashes(seqs: readonly number[]): Promise<ReadonlyMap<number, Digest>> {
    const found = await this.files(seqs.map(entryPath));
    return new Map([...found].map(([path, content]) => [entryAt(path), sha256(content.toString('utf8'))]));
  }

  /** Brings the trees on the ways to files, all of a level at once. Answers the files that there are. */
  async ways(paths: readonly Path[]): Promise<ReadonlyMap<Path, ObjectId>> {
    let reached = new Map<Path, ObjectId>(paths.map((path) => [path, this.commit.tree]));
    for (let level = 0; level < pathLength; level += 1) {
      const trees = await this.load([...reached.values()]);
      const read = new Map([...new Set(reached.values())].map((id) => [id, readTree(trees.of(id))]));
      reached = new Map(
        [...reached].flatMap(([path, id]): [Path, ObjectId][] => {
          const child = read.get(id)?.get(path[level] ?? '');
          return child === undefined ? [] : [[path, child]];
        }),
      );
    }
    return reached;
  }

  /** Those of some files that there are. */
  private async files(paths: readonly Path[]): Promise<Map<Path, Buffer>> {
    const ids = await this.ways(paths);
    const contents = await this.load([...ids.values()]);
    return new Map([...ids].map(([path, id]) => [path, contents.of(id)]));
  }

  /** All files in a folder, in the order of their paths. */
  private async *filesIn(folder: Folder): AsyncGenerator<[Path, Buffer]> {
    const top = (await this.namesIn(this.commit.tree)).get(folder);
    for (const [first, under] of top === undefined ? [] : await this.namesIn(top)) {
      const seconds = await this.namesIn(under);
      const trees = await this.load([...seconds.values()], 'whole');
      const files = [...seconds].flatMap(([second, id]) =>
        [...readTree(trees.of(id))].map(([name, file]) => ({ path: [folder, first, second, name], file })),
      );
      for (let at = 0; at < files.length; at += filesAtOnce) {
        const group = files.slice(at, at + filesAtOnce);
        const contents = await this.load(
          group.map(({ file }) => file),
          'whole',
        );
        yield* group.map(({ path, file }): [Path, Buffer] => [path, contents.of(file)]);
      }
    }
  }

  private async namesIn(tree: ObjectId): Promise<ReadonlyMap<string, ObjectId>> {
    return readTree((await this.load([tree])).of(tree));
  }

  /** Reads objects, and fetches those that are not here: with all that they lead to where that will be read too. */
  private async load(ids: readonly ObjectId[], closure: Closure = 'alone'): Promise<Contents> {
    const contents = new Contents(this.label);
    const missing = await this.readInto(contents, ids);
    if (missing.length > 0) {
      const isSmall = this.commit.state.facts <= small;
      const all = isSmall ? [...new Set([...missing, ...(await this.missingFolders())])] : missing;
      await this.remote.objects(all, isSmall ? 'whole' : closure);
      await this.readInto(contents, missing);
    }
    return contents;
  }

  /** The folders of all entries and facts that are not here, as far as the trees that lead to them are. */
  private async missingFolders(): Promise<ObjectId[]> {
    let level = [this.commit.tree];
    for (let depth = 0; depth < 2; depth += 1) {
      const trees = await Promise.all(level.map((id) => this.store.read(id)));
      level = trees.flatMap((tree) => (tree === undefined ? [] : [...readTree(tree).values()]));
    }
    return this.readInto(new Contents(this.label), level);
  }

  /** Answers those that are not here. */
  private async readInto(contents: Contents, ids: readonly ObjectId[]): Promise<ObjectId[]> {
    const unique = [...new Set(ids)];
    const found = await Promise.all(unique.map((id) => this.store.read(id)));
    return unique.filter((id, at) => !contents.take(id, found[at]));
  }
}

/** The contents of some objects. */
class Contents {
  private readonly found = new Map<ObjectId, Buffer>();

  constructor(private readonly label: string) {}

  /** Answers whether there is one. */
  take(id: ObjectId, content: Buffer | undefined): boolean {
    if (content !== undefined) {
      this.found.set(id, content);
    }
    return content !== undefined;
  }

  /** Throws `ledger-corrupt` for an object that is missing also where it was fetched from. */
  of(id: ObjectId): Buffer {
    const content = this.found.get(id);
    if (content === undefined) {
      throw notWrittenByHod(this.label, `the object ${id.slice(0, 12)} of it is missing`);
    }
    return content;
  }
}

/** The fact in a file, whose seal must be that of its text, under its key, by the entry that it names. */
function checkedFact(fact: GitFact, path: Path): GitFact {
  const name = factName(fact);
  if (factPath(fact).join('/') !== path.join('/')) {
    throw factsCorrupt(name, `it lies at ${path.join('/')}, where another belongs`);
  }
  if (fact.seal !== sealOf({ key: fact, text: fact.text }, fact.entry)) {
    throw factsCorrupt(name, `entry ${fact.seq} did not set it so`);
  }
  return fact;
}

/** Adds an entry to the facts before it, and the files of those that it set to `files`, by name: the last one counts. */
function foldFiles({ entry, hash }: SealedEntry, facts: Facts, files: Map<string, GitFact>): void {
  for (const { key, text } of foldInto(facts, entry)) {
    const seal = sealOf({ key, text }, hash);
    files.set(factName(key), { kind: key.kind, key: key.key, seq: entry.seq, entry: hash, seal, text });
  }
}

async function* nothing(): AsyncGenerator<never> {
  // There is nothing.
}
