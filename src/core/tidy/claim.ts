import { describeDuration } from '../amounts';
import type { Action } from '../ledger/entries';
import type { Removing } from './content-history';
import { describeKeep } from './keep';
import type { GoingContent, RepositoryRemoval } from './removal';
import type { KeepingEnvironment } from './content-plan';
import type { Digest } from '../oci/digest';
import type { Tag } from '../oci/tag';

/** What became of content that was to be removed. */
export interface RemovalOutcome {
  readonly removed: ReadonlySet<Digest>;
  /** The tags that stand there still. */
  readonly standing: ReadonlySet<Tag>;
  /** Why something is left. */
  readonly why: string | undefined;
}

/** What lets content go. */
export interface RemovalRules {
  readonly environments: readonly KeepingEnvironment[];
  /** How old content must be that the ledger does not know, in milliseconds. */
  readonly unknown: { readonly olderThan: number } | undefined;
}

/** The claim to remove content: from when it stands in the ledger, nothing relies on that content any more. */
export function removingAction(
  removals: readonly RepositoryRemoval[],
  { environments, unknown }: RemovalRules,
): Removing {
  const contents = removals.flatMap(({ goes }) => goes);
  const position = new Map(removals.flatMap(({ waves }) => waves.flat()).map((digest, at) => [digest, at]));
  const among = new Set(contents.flatMap(({ placed }) => [...placed.environments]));
  return {
    kind: 'removing',
    environments: environments.flatMap(({ name, keep }) =>
      keep !== undefined && among.has(name) ? [{ environment: name, keep: describeKeep(keep) }] : [],
    ),
    contents: contents.map((each) => ({
      ...claimOf(each, position),
      ...(unknown !== undefined && each.placed.components.size === 0
        ? { unknown: `nothing in the ledger; older than ${describeDuration(unknown.olderThan)}` }
        : {}),
    })),
  };
}

/** @param position Where each manifest stands in the order in which they are removed. */
function claimOf(
  { placed, manifests, tags, referrers }: GoingContent,
  position: ReadonlyMap<Digest, number>,
): Removing['contents'][number] {
  const { repository, digest, components, releases } = placed;
  return {
    ...{ repository, digest, components: [...components], releases: [...releases.keys()] },
    tags: [...new Set([...placed.tags, ...tags, ...referrers.flatMap(({ tag }) => tag ?? [])])],
    manifests: [...manifests].sort((a, b) => (position.get(a) ?? 0) - (position.get(b) ?? 0)),
  };
}

/** What is told to the ledger when content was removed, as far as its registry let it go. */
export function removedAction(
  claim: number,
  { environments, contents }: Removing,
  outcomeOf: (content: Removing['contents'][number]) => RemovalOutcome,
): Extract<Action, { kind: 'removed' }> {
  return {
    kind: 'removed',
    claim,
    environments,
    contents: contents.map((content) => {
      const { repository, digest, components, releases, unknown, tags } = content;
      const { removed, standing, why } = outcomeOf(content);
      const all = [...new Set([digest, ...content.manifests])];
      return {
        ...{ repository, digest, components, releases, ...(unknown === undefined ? {} : { unknown }) },
        removed: all.filter((each) => removed.has(each)),
        left: all.filter((each) => !removed.has(each)),
        tags: tags.filter((tag) => standing.has(tag)),
        ...(why === undefined ? {} : { why }),
      };
    }),
  };
}
