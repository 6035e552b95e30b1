import { HodError } from '../core/errors';
import type { ContentNode } from '../core/oci/content';
import { parseReference, type Reference } from '../core/oci/reference';
import type { Digest } from '../core/oci/digest';
import type { Tag } from '../core/oci/tag';
import { tagKey } from '../core/ledger/facts';
import { fixedTags } from '../core/release/gates/tags';
import { refuseUnmet } from '../core/release/refusal';
import { decideFixed, type TagDecision } from '../core/release/tag-decisions';
import type { RepositoryClient } from '../registry/repository';
import type { Carrier, Transfer } from './carry';
import { notKept } from './settle';

/**
 * Reads where somebody wants content: a repository, with the tag to write if one is wanted.
 *
 * @throws {@link HodError} `not-a-reference` for a digest, `not-a-repository`
 */
export function parseTarget(text: string): Reference {
  const target = parseReference(text);
  if (target.digest !== undefined) {
    throw new HodError('not-a-reference', {
      what: 'nothing can be written to a digest',
      object: text,
      why: 'the digest follows from the content',
      next: 'name a repository, or a repository and a tag',
    });
  }
  return target;
}

/**
 * Decides about a tag that somebody names without a ledger: it is a fixed one.
 *
 * @throws {@link HodError} `fixed-tag-taken` where it leads to something else.
 */
export async function decideNamedTag(client: RepositoryClient, tag: Tag, digest: Digest): Promise<TagDecision> {
  const served = await client.manifests.resolve(tag, digest);
  const decision: TagDecision = {
    component: client.repository.name,
    repository: client.label,
    tag,
    kind: 'fixed',
    digest,
    served,
    ...decideFixed(digest, served, undefined),
  };
  refuseUnmet([fixedTags([decision])]);
  return decision;
}

/**
 * Writes a tag that was decided to be created; everything below its manifest is there.
 *
 * @throws {@link HodError} `fixed-tag-taken` where somebody else wrote it meanwhile; `tag-not-kept`
 */
export async function writeNamedTag(
  node: ContentNode,
  target: RepositoryClient,
  decision: TagDecision,
  { carrier, transfer }: { readonly carrier: Carrier; readonly transfer: Transfer },
): Promise<void> {
  if (decision.outcome !== 'created' || carrier.dryRun) {
    return;
  }
  const { manifest } = node;
  const served = await carrier.mending(node, target, () => target.manifests.tag(decision.tag, manifest), transfer);
  refuseUnmet([fixedTags([{ ...decision, served, ...decideFixed(manifest.digest, served, undefined) }])]);
  if (served === undefined) {
    throw notKept(tagKey(target.label, decision.tag), 'it said that it wrote it, and has no such tag');
  }
}
