import { HodError } from '../core/errors';
import { assembleIndex } from '../core/oci/assemble';
import { runnableImages, sizeOf } from '../core/oci/content';
import type { Digest } from '../core/oci/digest';
import { platformKey } from '../core/oci/platform';
import { parseReference, type Reference } from '../core/oci/reference';
import { tagKey } from '../core/release/facts';
import { fixedTags } from '../core/release/gates/tags';
import { refuseUnmet } from '../core/release/refusal';
import { decideFixed, type TagDecision } from '../core/release/tag-decisions';
import { Carrier } from '../delivery/carry';
import { notKept } from '../delivery/settle';
import type { RepositoryClient } from '../registry/repository';
import type { AssembleResult } from '../results/assemble';
import { toTagResult } from '../results/common';
import { locate } from '../session/locate';
import { withoutProduct, type SessionOptions } from '../session/session';

/** What `assemble` is told. */
export interface AssembleOptions extends SessionOptions {
  /** The repository to write into, with the tag to write if one is wanted. */
  target: string;
  /** Paths of image layouts, or references; an index stands for all its images. */
  members: readonly string[];
  dryRun?: true | undefined;
}

/**
 * Makes one index of images that were built for different platforms, wherever they are. The tag,
 * where one is named, is a fixed one: it is written once and never moved.
 */
export async function assemble(options: AssembleOptions): Promise<AssembleResult> {
  return withoutProduct(options, async (session) => {
    const target = targetOf(options.target);
    const dryRun = options.dryRun === true;
    const nodes = await Promise.all(options.members.map((member) => locate(session, member)));
    const { node, members } = assembleIndex((await Promise.all(nodes.map(runnableImages))).flat());
    const { manifest } = node;
    const client = session.client(target.repository);

    const decision = await decideTag(client, target, manifest.digest);
    const carrier = new Carrier(dryRun, session.observer.transfer);
    const transfer = await carrier.carry(node, client);
    if (decision?.outcome === 'created' && !dryRun) {
      const served = await carrier.mending(node, client, () => client.manifests.tag(decision.tag, manifest), transfer);
      refuseUnmet([fixedTags([{ ...decision, served, ...decideFixed(manifest.digest, served, undefined) }])]);
      if (served === undefined) {
        throw notKept(tagKey(client.label, decision.tag), 'it said that it wrote it, and has no such tag');
      }
    }
    return {
      repository: client.label,
      digest: manifest.digest,
      mediaType: manifest.mediaType,
      members: members.map((member) => ({
        platform: platformKey(member.platform),
        digest: member.manifest.digest,
        size: sizeOf(member.node),
        revision: member.revision ?? null,
      })),
      tags: decision === undefined ? [] : [toTagResult(decision)],
      transfer: { ...transfer, requests: client.requests },
      dryRun,
    };
  });
}

function targetOf(text: string): Reference {
  const target = parseReference(text);
  if (target.digest !== undefined) {
    throw new HodError('not-a-reference', {
      what: 'an index cannot be written to a digest',
      object: text,
      why: 'its digest follows from its members',
      next: 'name a repository, or a repository and a tag',
    });
  }
  return target;
}

async function decideTag(
  client: RepositoryClient,
  { tag }: Reference,
  digest: Digest,
): Promise<TagDecision | undefined> {
  if (tag === undefined) {
    return undefined;
  }
  const served = await client.manifests.resolve(tag);
  const decision: TagDecision = {
    image: client.repository.name,
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
