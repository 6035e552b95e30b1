import { sha256, type Digest } from '../../../core/oci/digest';
import {
  changedOutside,
  emptyHead,
  foldInto,
  headAfter,
  openEntry,
  type After,
  type CompactedEntry,
  type Head,
  type SealedEntry,
} from '../../../core/ledger/entry';
import { factName, Facts, type FactKey, type SetFact } from '../../../core/ledger/facts';
import type { LedgerContent } from '../../ledger';
import {
  compactedPath,
  entryAt,
  entryPath,
  factsPath,
  folders,
  notWrittenByHod,
  readCompacted,
  readFacts,
  readTree,
  writeCompacted,
  writeFacts,
  type Folder,
  type LedgerCommit,
  type ObjectId,
  type TreePath,
  type Tree,
} from './layout';
import type { Closure, GitRemote } from './remote';
import type { CommittedFile, GitStore } from './store';

/** A ledger with no more facts than this is fetched as a whole: asking for parts takes longer. */
const small = 2_000;
/** How many entries, or files of facts, are read at a time where all are. */
const filesAtOnce = 256;

/** A ledger as of one commit. What is missing of it here is fetched. */
export class CommitContent implements LedgerContent {
  constructor(
    private readonly commit: LedgerCommit,
    private readonly label: string,
    private readonly store: Pick<GitStore, 'read'>,
    private readonly remote: Pick<GitRemote, 'objects'>,
  ) {}

  /** How many facts there are. */
  get count(): number {
    return this.commit.state.facts;
  }

  /** How many digits of a hash say where a fact lies. */
  get digits(): number {
    return this.commit.state.digits;
  }

  /** Those of the named facts that are set. */
  async read(keys: readonly FactKey[]): Promise<Facts> {
    const facts = new Facts(keys);
    const wanted = new Set(keys.map(factName));
    const found = await this.factsBeside(keys);
    [...found].filter(([name]) => wanted.has(name)).forEach(([, { key, text }]) => facts.load(key, text));
    return facts;
  }

  /** The facts in the files of some, by name. */
  besides(facts: readonly SetFact[]): Promise<Map<string, SetFact>> {
    return this.factsBeside(facts.map(({ key }) => key));
  }

  /** All facts, by name. */
  async allFacts(): Promise<Map<string, SetFact>> {
    const all = new Map<string, SetFact>();
    for await (const fact of this.facts()) {
      all.set(factName(fact.key), fact);
    }
    return all;
  }

  private async factsBeside(keys: readonly FactKey[]): Promise<Map<string, SetFact>> {
    const paths = new Map(keys.map((key) => factsPath(key, this.digits)).map((path) => [path.join('/'), path]));
    const files = await this.files([...paths.values()]);
    return new Map(
      [...files].flatMap(([path, content]) => readFacts(content, path)).map((fact) => [factName(fact.key), fact]),
    );
  }

  async *entries(after: After = emptyHead): AsyncGenerator<SealedEntry> {
    let before: After = after;
    let moved: ReadonlyMap<number, Digest> | undefined;
    const { seq: last } = this.commit.state;
    const files = after.seq === 0 ? this.filesIn(folders.entries) : this.entryFiles(after.seq + 1, last);
    for await (const [path, content] of files) {
      const text = content.toString('utf8');
      if (entryAt(path) !== before.seq + 1) {
        moved ??= await this.movedHashes();
        before = headBetween(before, entryAt(path), moved);
      }
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

  async *compacted(): AsyncGenerator<CompactedEntry> {
    for await (const [path, content] of this.filesIn(folders.compacted)) {
      yield* readCompacted(content, path);
    }
  }

  /** The hashes of the entries whose texts were moved into files, by their numbers. */
  private async movedHashes(): Promise<ReadonlyMap<number, Digest>> {
    const moved = new Map<number, Digest>();
    for await (const { seq, hash } of this.compacted()) {
      moved.set(seq, hash);
    }
    return moved;
  }

  /** What is written of entries whose texts are dropped: files with their hashes, beside those of others. */
  async compactedFiles(seqs: readonly number[]): Promise<CommittedFile[]> {
    const moved = new Map([...(await this.movedHashes()), ...(await this.hashes(seqs))]);
    const files = new Map<string, { path: TreePath; entries: CompactedEntry[] }>();
    for (const [seq, hash] of [...moved].sort(([a], [b]) => a - b)) {
      const path = compactedPath(seq);
      const file = files.get(path.join('/')) ?? { path, entries: [] };
      file.entries.push({ seq, hash });
      files.set(path.join('/'), file);
    }
    return [...files.values()].map(({ path, entries }) => ({ path, content: writeCompacted(entries) }));
  }

  /** The files of some entries, in their order. */
  private async *entryFiles(from: number, to: number): AsyncGenerator<[TreePath, Buffer]> {
    for (let seq = from; seq <= to; seq += filesAtOnce) {
      const count = Math.min(filesAtOnce, to - seq + 1);
      const paths = Array.from({ length: count }, (_, at) => entryPath(seq + at));
      const found = await this.files(paths);
      yield* paths.flatMap((path): [TreePath, Buffer][] => {
        const content = found.get(path);
        return content === undefined ? [] : [[path, content]];
      });
    }
  }

  async *facts(): AsyncGenerator<SetFact> {
    for await (const [path, content] of this.filesIn(folders.facts)) {
      yield* readFacts(content, path);
    }
  }

  /** The hashes of entries that there are. */
  async hashes(seqs: readonly number[]): Promise<ReadonlyMap<number, Digest>> {
    const found = await this.files(seqs.map(entryPath));
    const hashes = new Map([...found].map(([path, content]) => [entryAt(path), sha256(content.toString('utf8'))]));
    if (hashes.size < seqs.length) {
      const moved = await this.movedHashes();
      seqs.forEach((seq) => {
        const hash = moved.get(seq);
        if (hash !== undefined && !hashes.has(seq)) {
          hashes.set(seq, hash);
        }
      });
    }
    return hashes;
  }

  /** Brings the trees on the ways to files, all of a level at once. Answers the files that there are. */
  async ways(paths: readonly TreePath[]): Promise<ReadonlyMap<TreePath, ObjectId>> {
    const files = new Map<TreePath, ObjectId>();
    let reached = new Map<TreePath, ObjectId>(paths.map((path) => [path, this.commit.tree]));
    for (let level = 0; reached.size > 0; level += 1) {
      const trees = await this.load([...reached.values()]);
      const read = new Map([...new Set(reached.values())].map((id) => [id, readTree(trees.of(id))]));
      const next = new Map<TreePath, ObjectId>();
      for (const [path, tree] of reached) {
        const id = read.get(tree)?.get(path[level] ?? '')?.id;
        if (id !== undefined) {
          (level + 1 === path.length ? files : next).set(path, id);
        }
      }
      reached = next;
    }
    return files;
  }

  /** Those of some files that there are. */
  private async files(paths: readonly TreePath[]): Promise<Map<TreePath, Buffer>> {
    const ids = await this.ways(paths);
    const contents = await this.load([...ids.values()]);
    return new Map([...ids].map(([path, id]) => [path, contents.of(id)]));
  }

  /** All files in a folder, in the order of their paths. */
  private async *filesIn(folder: Folder): AsyncGenerator<[TreePath, Buffer]> {
    const top = (await this.namesIn(this.commit.tree)).get(folder);
    if (top !== undefined) {
      yield* this.filesUnder([folder], top.id);
    }
  }

  private async *filesUnder(path: TreePath, tree: ObjectId): AsyncGenerator<[TreePath, Buffer]> {
    const names = [...(await this.namesIn(tree))];
    for (let at = 0; at < names.length; at += filesAtOnce) {
      const group = names.slice(at, at + filesAtOnce);
      const ids = group.map(([, { id }]) => id);
      // All of it is read: what is missing is fetched at once, with everything under it.
      const contents = await this.load(ids, 'whole');
      for (const [name, { id, isTree }] of group) {
        if (isTree) {
          yield* this.filesUnder([...path, name], id);
        } else {
          yield [[...path, name], contents.of(id)];
        }
      }
    }
  }

  private async namesIn(tree: ObjectId): Promise<Tree> {
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
      level = trees.flatMap((tree) => (tree === undefined ? [] : [...readTree(tree).values()].map(({ id }) => id)));
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

/** The head before an entry, where those between were moved into files. Throws `ledger-entry-corrupt` where one of them was not. */
function headBetween(before: After, seq: number, moved: ReadonlyMap<number, Digest>): Head {
  let hash: Digest | undefined;
  for (let each = before.seq + 1; each < seq; each += 1) {
    hash = moved.get(each);
    if (hash === undefined) {
      throw changedOutside(each, 'it is missing');
    }
  }
  if (hash === undefined) {
    throw changedOutside(seq, 'it does not follow the entry before it');
  }
  return { seq: seq - 1, hash };
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

/** Adds an entry to the facts before it, and those that it set to `set`, by name: the last one counts. */
export function foldFacts({ entry }: SealedEntry, facts: Facts, set: Map<string, SetFact>): void {
  foldInto(facts, entry).forEach(({ key, text }) => set.set(factName(key), { key, text, seq: entry.seq }));
}

/** The files in which facts lie. */
export function filesOf(facts: Iterable<SetFact>, digits: number): CommittedFile[] {
  const files = new Map<string, { path: TreePath; facts: SetFact[] }>();
  for (const fact of facts) {
    const path = factsPath(fact.key, digits);
    const file = files.get(path.join('/')) ?? { path, facts: [] };
    file.facts.push(fact);
    files.set(path.join('/'), file);
  }
  return [...files.values()].map(({ path, facts: lying }) => ({ path, content: writeFacts(lying) }));
}
