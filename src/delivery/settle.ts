import { HodError } from '../core/errors';
import type { ContentNode } from '../core/oci/content';
import type { Digest } from '../core/oci/digest';
import { tagKey, type FactKey } from '../core/release/facts';
import type { TagDecision } from '../core/release/tag-decisions';
import { tagKinds } from '../core/tags/rules';
import type { Ledger } from '../ledger/ledger';
import type { RepositoryClient } from '../registry/repository';

/** An image or bundle whose tags are settled. */
export interface SettlingItem {
  readonly image: string;
  readonly node: Pick<ContentNode, 'manifest'>;
  readonly target: Pick<RepositoryClient, 'label'> & {
    readonly manifests: Pick<RepositoryClient['manifests'], 'get' | 'put'>;
  };
}

/**
 * Makes the registries serve what the ledger says, for the tags of a delivery. Reads the ledger
 * again after writing: where something newer was published meanwhile, that is what the tag must
 * end with, whoever wrote last.
 */
export async function settle(
  items: readonly SettlingItem[],
  decisions: readonly TagDecision[],
  ledger: Pick<Ledger, 'read'>,
): Promise<TagDecision[]> {
  // A tag that is held although it points here was written late by a run of this build that was killed then.
  const ours = decisions.filter(({ outcome, served, digest }) => outcome !== 'held' || served === digest);
  const serving = new Map<string, Digest | undefined>(ours.map((decision) => [keyOf(decision), decision.served]));
  const keys = [...serving.keys()].map((key): FactKey => ({ kind: 'tag', key }));
  for (;;) {
    const { facts } = await ledger.read(keys);
    const pending = ours.flatMap((decision) => {
      const digest = facts.get('tag', keyOf(decision))?.digest;
      return digest === undefined || digest === serving.get(keyOf(decision)) ? [] : [{ decision, digest }];
    });
    if (pending.length === 0) {
      return decisions.map((decision) => asServed(decision, serving.get(keyOf(decision))));
    }
    // Fixed tags first: whoever sees a moving tag move finds the version there too.
    for (const kind of tagKinds) {
      const now = pending.filter(({ decision }) => decision.kind === kind);
      await Promise.all(
        now.map(async ({ decision, digest }) => {
          await writeTag(items, decision, digest);
          serving.set(keyOf(decision), digest);
        }),
      );
    }
  }
}

function keyOf({ repository, tag }: TagDecision): string {
  return tagKey(repository, tag);
}

function asServed(decision: TagDecision, served: Digest | undefined): TagDecision {
  return decision.outcome === 'held' || served === decision.digest
    ? decision
    : { ...decision, outcome: 'held', reason: 'something newer was published meanwhile', heldBy: 'order' };
}

async function writeTag(items: readonly SettlingItem[], { image, tag }: TagDecision, digest: Digest): Promise<void> {
  const item = items.find((each) => each.image === image);
  if (item === undefined) {
    throw new Error(`the tag ${tag} is for ${image}, which is not delivered`);
  }
  const { node, target } = item;
  const manifest = node.manifest.digest === digest ? node.manifest : await target.manifests.get(digest);
  if (manifest === undefined) {
    throw new HodError('content-gone', {
      what: 'a tag cannot be brought up to date',
      object: tagKey(target.label, tag),
      why: `the ledger says that it points to ${digest}, which is not in the registry`,
      next: 'publish that build again',
    });
  }
  await target.manifests.put(tag, manifest);
}
