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
  /** The manifests, each before those that it lists and the one that it refers to. */
  readonly order: readonly Digest[];
  /** Whether the claim is open: once another run has recorded that it was met, what it names may be there again. */
  readonly stillOurs: () => Promise<boolean>;
}

/** How a registry removes things, as far as this run has seen. */
export interface RegistryManner {
  /** It removes manifests; undefined until one was removed, and was gone. */
  manifests: boolean | undefined;
  /** Why it does not. */
  why: string | undefined;
}

/**
 * Removes content from a repository: tags first, then manifests, parents before children. The first removal shows how the registry
 * goes about it: it is looked whether what was removed is gone.
 *
 * @param manner Kept for each registry in a run.
 */
export async function removeContents(order: RemovalOrder, manner: RegistryManner): Promise<RemovalOutcome> {
  const { client, contents } = order;
  const ours = new Set(contents.flatMap(({ digest, manifests }) => [digest, ...manifests]));
  const tags = [...new Set(contents.flatMap((each) => each.tags))];
  await settleAll(tags.map((tag) => removeTagOf(client, tag, ours)));
  const roots = new Set(contents.map(({ digest }) => digest));
  const removed = new Set<Digest>();
  for (const digest of order.order) {
    if (manner.manifests === false || (roots.has(digest) && !(await order.stillOurs()))) {
      break;
    }
    if (await removeManifest(client, digest, manner)) {
      removed.add(digest);
    }
  }
  // What the registry had lost before is gone too.
  const rest = [...ours].filter((digest) => !removed.has(digest));
  const there = await settleAll(rest.map(async (digest) => ((await client.manifests.resolve(digest)) ? [] : [digest])));
  there.flat().forEach((digest) => removed.add(digest));
  const standing = await settleAll(
    tags.map(async (tag) => ((await client.manifests.resolve(tag)) === undefined ? [] : [tag])),
  );
  return { removed, standing: new Set(standing.flat()), why: removed.size === ours.size ? undefined : manner.why };
}

/** Removes a tag that leads to what goes. One that leads elsewhere by now is somebody else's. */
async function removeTagOf(client: RepositoryToTidy, tag: Tag, ours: ReadonlySet<Digest>): Promise<void> {
  const served = await client.manifests.resolve(tag);
  const isOurs = served !== undefined && ours.has(served);
  if (isOurs) {
    await client.tags.remove(tag);
  }
}

/** Removes a manifest. Answers whether it is gone. */
async function removeManifest(client: RepositoryToTidy, digest: Digest, manner: RegistryManner): Promise<boolean> {
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
