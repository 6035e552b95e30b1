import type { Action } from '../ledger/entries';
import type { Removing } from './content-history';
import { describeKeep } from './keep';
import type { GoingContent, RepositoryRemoval } from './removal';
import type { KeepingEnvironment, RepositoryPlan } from './content-plan';
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

/** The claim to remove content: from when it stands in the ledger, nothing relies on that content any more. */
export function removingAction(
  removals: readonly RepositoryRemoval[],
  environments: readonly KeepingEnvironment[],
): Removing {
  const contents = removals.flatMap(({ goes }) => goes);
  const position = new Map(removals.flatMap(({ order }) => order).map((digest, at) => [digest, at]));
  const among = new Set(contents.flatMap(({ placed }) => [...placed.environments]));
  return {
    kind: 'removing',
    environments: environments.flatMap(({ name, keep }) =>
      keep !== undefined && among.has(name) ? [{ environment: name, keep: describeKeep(keep) }] : [],
    ),
    contents: contents.map((each) => claimOf(each, position)),
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
      const { repository, digest, components, releases, tags } = content;
      const { removed, standing, why } = outcomeOf(content);
      const all = [...new Set([digest, ...content.manifests])];
      return {
        ...{ repository, digest, components, releases },
        removed: all.filter((each) => removed.has(each)),
        left: all.filter((each) => !removed.has(each)),
        tags: tags.filter((tag) => standing.has(tag)),
        ...(why === undefined ? {} : { why }),
      };
    }),
  };
}

/** A plan that lets only some of its content go; the rest is held like what stays. */
export function onlySome(plan: RepositoryPlan, some: ReadonlySet<Digest>): RepositoryPlan {
  const rest = plan.goes.filter(({ digest }) => !some.has(digest));
  return {
    ...plan,
    goes: plan.goes.filter(({ digest }) => some.has(digest)),
    stays: [...plan.stays, ...rest.map((placed) => ({ placed, reasons: [] }))],
  };
}
