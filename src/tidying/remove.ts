import type { Digest } from '../core/oci/digest';
import type { Tag } from '../core/oci/tag';
import type { RemovalOutcome } from '../core/tidy/claim';
import type { Removing } from '../core/tidy/content-history';
import type { RepositoryToTidy } from '../registry/ports';
import { settleAll } from '../system/promises';

/** What is removed from one repository. */
export interface RemovalOrder {
  readonly client: RepositoryToTidy;
  readonly contents: readonly Removing['contents'][number][];
  /** The manifests, in waves: each in an earlier one than those that it lists and than the one that it refers to. */
  readonly waves: readonly (readonly Digest[])[];
  /** Whether the claim is open: once another run has recorded that it was met, what it names may be there again. */
  readonly stillOurs: () => Promise<boolean>;
}

/** How a registry removes things from a repository, as far as this run has seen. */
export interface RemovalManner {
  /** It removes tags alone; else they go with their manifests, or not at all. */
  tags: boolean;
  /** It removes manifests; undefined until one was removed, and was gone. */
  manifests: boolean | undefined;
  /** Why it does not. */
  why: string | undefined;
}

/**
 * Removes content from a repository: tags first, then manifests, parents before children. The first removals show how the registry
 * goes about them: whether it removes tags alone, and whether a manifest that it said it removed is gone.
 *
 * @param manner Kept for each repository in a run.
 */
export async function removeContents(order: RemovalOrder, manner: RemovalManner): Promise<RemovalOutcome> {
  const { client, contents } = order;
  const ours = new Set(contents.flatMap(({ digest, manifests }) => [digest, ...manifests]));
  const tags = [...new Set(contents.flatMap((each) => each.tags))];
  if (manner.tags) {
    const answers = await settleAll(tags.map((tag) => removeTagOf(client, tag, ours)));
    manner.tags = !answers.includes(false);
  }
  const removed = new Set<Digest>();
  const remove = async (digest: Digest): Promise<void> => {
    if (manner.manifests !== false && (await removeManifest(client, digest, manner))) {
      removed.add(digest);
    }
  };
  for (const [first, ...others] of order.waves) {
    if (first === undefined || manner.manifests === false || !(await order.stillOurs())) {
      break;
    }
    // What the first one shows counts for the others.
    await remove(first);
    await settleAll(others.map(remove));
  }
  // What the registry had lost before is gone too.
  const rest = [...ours].filter((digest) => !removed.has(digest));
  const there = await settleAll(rest.map(async (digest) => ((await client.manifests.resolve(digest)) ? [] : [digest])));
  there.flat().forEach((digest) => removed.add(digest));
  const standing = await settleAll(
    tags.map(async (tag) => ((await client.manifests.resolve(tag)) === undefined ? [] : [tag])),
  );
  manner.tags &&= standing.flat().length === 0;
  return { removed, standing: new Set(standing.flat()), why: removed.size === ours.size ? undefined : manner.why };
}

/** Removes a tag that leads to what goes; false where the registry refuses. One that leads elsewhere by now is somebody else's. */
async function removeTagOf(client: RepositoryToTidy, tag: Tag, ours: ReadonlySet<Digest>): Promise<boolean> {
  const served = await client.manifests.resolve(tag);
  return served === undefined || !ours.has(served) || client.tags.remove(tag);
}

/** Removes a manifest. Answers whether it is gone. */
async function removeManifest(client: RepositoryToTidy, digest: Digest, manner: RemovalManner): Promise<boolean> {
  if (!(await client.manifests.remove(digest))) {
    manner.manifests = false;
    manner.why = 'the registry removes no manifests, or not for this login';
    return false;
  }
  if (manner.manifests === undefined) {
    if ((await client.manifests.resolve(digest)) !== undefined) {
      manner.manifests = false;
      manner.why = 'the registry says that it removed a manifest, and has it still';
      return false;
    }
    manner.manifests = true;
  }
  return true;
}

/** Whether a registry removes nothing from a repository, as far as was seen. */
export function removesNothing({ tags, manifests }: RemovalManner): boolean {
  return !tags && manifests === false;
}
