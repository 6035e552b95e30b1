import { HodError } from '../errors';
import { annotationKeys } from './annotations';
import type { ContentNode, ContentSource, RunnableImage } from './content';
import { shortDigest } from './digest';
import { describeManifest, parseManifest } from './manifest';
import { mediaTypes } from './media-types';
import { normalPlatform, platformKey } from './platform';

/** An index, and its members in the order in which they stand in it. */
export interface AssembledIndex {
  readonly node: ContentNode;
  readonly members: readonly RunnableImage[];
}

/**
 * Makes one index of images, one for each platform. The same images give the same bytes in whatever
 * order they are named: members stand in the order of their platforms, and nothing in the index
 * depends on the time or the place.
 *
 * Throws `missing` where there is no member, `refused` where two different images claim one platform, or members name different commits.
 */
export function assembleIndex(
  members: readonly RunnableImage[],
  annotations: Record<string, string> = {},
): AssembledIndex {
  if (members.length === 0) {
    throw new HodError('nothing-to-assemble', {
      what: 'there is nothing to assemble',
      object: 'the members',
      why: 'none of them holds an image that runs somewhere',
      next: 'name image layouts or references of images',
    });
  }
  const byPlatform = new Map<string, RunnableImage>();
  for (const member of members) {
    const key = platformKey(member.platform);
    const other = byPlatform.get(key);
    if (other !== undefined && other.manifest.digest !== member.manifest.digest) {
      throw new HodError('platform-twice', {
        what: 'two members are for one platform',
        object: key,
        why: `${memberLabel(other)} and ${memberLabel(member)} both say they are for ${key}`,
        next: 'name one of them',
      });
    }
    byPlatform.set(key, member);
  }
  const chosen = [...byPlatform.entries()].sort(([a], [b]) => (a < b ? -1 : 1)).map(([, member]) => member);
  refuseMixedRevisions(chosen);
  const revision = chosen[0]?.revision;
  const all = { ...(revision === undefined ? {} : { [annotationKeys.revision]: revision }), ...annotations };
  const document = {
    schemaVersion: 2,
    mediaType: mediaTypes.index,
    manifests: chosen.map(({ manifest, platform }) => ({
      ...describeManifest(manifest),
      platform: normalPlatform(platform),
    })),
    ...(Object.keys(all).length === 0 ? {} : { annotations: sortKeys(all) }),
  };
  const bytes = new TextEncoder().encode(JSON.stringify(document));
  const manifest = parseManifest(bytes, { label: 'the assembled index', mediaType: mediaTypes.index });
  return { node: { manifest, source: nowhere, children: chosen.map(({ node }) => node) }, members: chosen };
}

/** An index has no blobs of its own, and its bytes are already here. */
const nowhere: ContentSource = {
  label: 'an assembled index',
  readManifest: () => Promise.reject(new Error('an assembled index is not read from anywhere')),
  openBlob: () => Promise.reject(new Error('an index has no blobs')),
};

function refuseMixedRevisions(members: readonly RunnableImage[]): void {
  const known = members.filter(({ revision }) => revision !== undefined);
  const [first] = known;
  const other = known.find(({ revision }) => revision !== first?.revision);
  if (first !== undefined && other !== undefined) {
    throw new HodError('mixed-commits', {
      what: 'the members were built from different commits',
      object: [first, other].map(({ platform }) => platformKey(platform)).join(' and '),
      why: `${memberLabel(first)} says ${first.revision}, ${memberLabel(other)} says ${other.revision}`,
      next: 'build all platforms from one commit',
    });
  }
}

function memberLabel({ node, manifest }: RunnableImage): string {
  return `${node.source.label} (${shortDigest(manifest.digest)})`;
}

function sortKeys(record: Record<string, string>): Record<string, string> {
  return Object.fromEntries(Object.entries(record).sort(([a], [b]) => (a < b ? -1 : 1)));
}
