import type { CommitId } from '../commit';
import { sha256, type Digest } from '../oci/digest';
import type { RepositoryName } from '../oci/reference';
import type { Timestamp } from '../time';
import type { Action } from './entries';
import type { CompactedEntry, SealedEntry } from './entry';
import { removalKey, type Fact, type FactKind, type Facts, type SetFact } from './facts';
import type { ReleaseId } from './release';

/** What an entry is about, as far as it matters for whether anybody needs it. */
interface Told extends CompactedEntry {
  readonly at: Timestamp;
  readonly kind: Action['kind'];
  readonly commit: CommitId | undefined;
  readonly releases: readonly ReleaseId[];
  /** What came into repositories by it. */
  readonly contents: readonly { readonly repository: RepositoryName; readonly digest: Digest }[];
  /** Of `removed`: the entry that said so before. */
  readonly claim: number | undefined;
}

/** Entries of these kinds are told by others, or by facts, where nobody needs the releases any more that they are about. */
const movable: readonly Action['kind'][] = [
  ...(['staged', 'failed', 'published', 'promoted', 'returned', 'result', 'signed-off'] as const),
  ...(['refused', 'removing', 'removed', 'announced'] as const),
];
/** Content comes into repositories by these. */
const bringing: readonly Action['kind'][] = ['staged', 'published', 'promoted', 'adopted', 'returned'];

/** The facts that decide about compaction. */
export function mattersForCompaction({ key: { kind } }: Pick<SetFact, 'key'>): boolean {
  return ['environment', 'removal', 'announced'].includes(kind);
}

/**
 * Finds the entries of a ledger that nobody needs: they are old, receivers were told of them, and they are about releases that tidying
 * has removed from every repository. What is known of a release stays or goes as a whole. Entries are added in their order.
 */
export class Compaction {
  private readonly told: Told[] = [];
  private readonly commits = new Map<ReleaseId, CommitId>();

  add({ entry: { seq, at, action }, hash }: SealedEntry): void {
    const commit = 'commit' in action ? action.commit : undefined;
    if (commit !== undefined && 'release' in action) {
      this.commits.set(action.release, commit);
    }
    this.told.push({ seq, hash, at, kind: action.kind, commit, ...aboutOf(action) });
  }

  /**
   * The entries that may be moved away, in their order.
   *
   * @param facts Those of {@link mattersForCompaction}, all of them.
   * @param before Nothing moves of a release about which something was said since.
   * @param receivers Those that are told of entries: what they were not told stays.
   */
  choose(facts: Facts, before: Timestamp, receivers: readonly string[]): CompactedEntry[] {
    const needed = this.needed(facts, before);
    const delivered = Math.min(...receivers.flatMap((name) => facts.get('announced', name)?.seq ?? []));
    const last = this.told.at(-1)?.seq;
    const isMovable = (each: Told): boolean =>
      movable.includes(each.kind) &&
      each.at < before &&
      each.seq <= delivered &&
      each.seq !== last &&
      !this.commitsOf(each).some((commit) => needed.has(commit));
    const ended = new Set(this.told.filter(isMovable).flatMap(({ claim }) => claim ?? []));
    return this.told
      .filter((each) => isMovable(each) && (each.kind !== 'removing' || ended.has(each.seq)))
      .map(({ seq, hash }) => ({ seq, hash }));
  }

  /** The commits of which somebody needs what the ledger tells. */
  private needed(facts: Facts, before: Timestamp): Set<CommitId> {
    const isThere = ({ repository, digest }: Told['contents'][number]): boolean =>
      facts.get('removal', removalKey(repository, digest).key)?.state !== 'removed';
    const served = valuesOf(facts, 'environment').flatMap(({ components }) => components);
    return new Set([
      ...served.map(({ commit }) => commit),
      ...this.told
        .filter((each) => each.at >= before || (bringing.includes(each.kind) && each.contents.every(isThere)))
        .flatMap((each) => this.commitsOf(each)),
    ]);
  }

  /** Without those of releases of which nothing is left in the ledger: nobody needs them. */
  private commitsOf({ commit, releases }: Told): CommitId[] {
    return [
      ...(commit === undefined ? [] : [commit]),
      ...releases.flatMap((release) => this.commits.get(release) ?? []),
    ];
  }
}

function aboutOf(action: Action): Pick<Told, 'releases' | 'contents' | 'claim'> {
  const none = { releases: [], contents: [], claim: undefined };
  switch (action.kind) {
    case 'staged':
      return { ...none, contents: action.parts };
    case 'published':
    case 'promoted':
    case 'adopted':
      return { ...none, releases: [action.release], contents: action.components };
    case 'returned':
      return { ...none, releases: [action.release], contents: action.components };
    case 'result':
    case 'signed-off':
      return { ...none, releases: action.releases.map(({ release }) => release) };
    case 'removing':
    case 'removed': {
      const releases = action.contents.flatMap((each) => each.releases);
      return { ...none, releases, claim: action.kind === 'removed' ? action.claim : undefined };
    }
    default:
      return none;
  }
}

function valuesOf<K extends FactKind>(facts: Facts, kind: K): Fact<K>[] {
  const keys = facts.all().flatMap(({ key }) => (key.kind === kind ? [key.key] : []));
  return keys.flatMap((key) => {
    const value = facts.get(kind, key);
    return value === undefined ? [] : [value];
  });
}

/** The digest of the hashes of compacted entries, in their order: `seq hash` and a line end for each. */
export function hashesDigest(entries: readonly CompactedEntry[]): Digest {
  return sha256(entries.map(({ seq, hash }) => `${seq} ${hash}\n`).join(''));
}

/** What the ledger says of entries that move into a file now, beside those that moved before. */
export function compactedAction(
  written: { readonly file: string; readonly digest: Digest },
  moved: readonly CompactedEntry[],
  earlier: readonly CompactedEntry[],
): Extract<Action, { kind: 'compacted' }> {
  const all = [...earlier, ...moved].sort((one, other) => one.seq - other.seq);
  const through = all.at(-1)?.seq ?? 0;
  return {
    kind: 'compacted',
    ...written,
    entries: moved.length,
    total: all.length,
    through,
    hashes: hashesDigest(all),
  };
}
