import { HodError } from '../core/errors';
import { assembleIndex } from '../core/oci/assemble';
import { runnableImages } from '../core/oci/content';
import type { Digest } from '../core/oci/digest';
import { platformKey } from '../core/oci/platform';
import { parseReference, type Reference } from '../core/oci/reference';
import { decideFixed, type TagDecision } from '../core/release/plan';
import { Carrier, noTransfer } from '../registry/transfer';
import type { RepositoryClient } from '../registry/repository';
import { refuseOverwrites } from './judge';
import { locate } from './locate';
import { toTagResult, type AssembleResult } from './results';
import { withoutProduct, type SessionOptions } from './session';
import { sizeOf } from './show';

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
    const transfer = noTransfer();
    await new Carrier(session.limit, dryRun, session.observer.transfer).carry(node, client, transfer);
    if (decision?.outcome === 'created' && !dryRun) {
      await client.putManifest(decision.tag, manifest);
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
    throw new HodError('usage', {
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
  const previous = await client.resolve(tag);
  const decision: TagDecision = {
    image: client.repository.name,
    repository: client.label,
    tag,
    kind: 'fixed',
    digest,
    previous,
    late: false,
    ...decideFixed(digest, previous, undefined),
  };
  refuseOverwrites([decision]);
  return decision;
}
