import { HodError } from '../errors';
import { annotationKeys } from './annotations';
import type { ContentNode, ContentSource, RunnableImage } from './content';
import type { Descriptor } from './descriptor';
import { shortDigest } from './digest';
import { describeManifest, parseManifest } from './manifest';
import { mediaTypes } from './media-types';
import { normalPlatform, platformKey } from './platform';

/** Something that an index lists beside images that run, such as an attestation of one. */
export interface Companion {
  /** As the index that it is from lists it. */
  readonly descriptor: Descriptor;
  readonly node: ContentNode;
}

/** An index, and its members in the order in which they stand in it. */
export interface AssembledIndex {
  readonly node: ContentNode;
  readonly members: readonly RunnableImage[];
}

/**
 * Makes one index of images, one for each platform. The same images give the same bytes in whatever
 * order they are named: members stand in the order of their platforms, what accompanies them after, and nothing in the
 * index depends on the time or the place. Where all members are of the older media types, the index is.
 *
 * Throws `missing` where there is no member, `refused` where two different images claim one platform, or where members
 * name different commits or versions.
 */
export function assembleIndex(
  members: readonly RunnableImage[],
  annotations: Record<string, string> = {},
  companions: readonly Companion[] = [],
): AssembledIndex {
  if (members.length === 0) {
    throw new HodError('nothing-to-assemble', {
      what: 'there is nothing to assemble',
      object: 'the members',
      why: 'none of them holds an image that runs somewhere',
      next: 'name build outputs or references of images',
    });
  }
  const chosen = onePerPlatform(members);
  refuseMixed(chosen);
  const beside = [...new Map(companions.map((each) => [each.descriptor.digest, each])).values()].sort((a, b) =>
    a.descriptor.digest < b.descriptor.digest ? -1 : 1,
  );
  const isOlder =
    beside.length === 0 && chosen.every(({ manifest }) => manifest.mediaType === mediaTypes.olderManifest);
  const revision = chosen[0]?.revision;
  const all = { ...(revision === undefined ? {} : { [annotationKeys.revision]: revision }), ...annotations };
  const mediaType = isOlder ? mediaTypes.olderIndex : mediaTypes.index;
  const document = {
    schemaVersion: 2,
    mediaType,
    manifests: [
      ...chosen.map(({ manifest, platform }) => ({
        ...describeManifest(manifest),
        platform: normalPlatform(platform),
      })),
      ...beside.map(({ descriptor }) => descriptorDocument(descriptor)),
    ],
    // The older list has none.
    ...(isOlder || Object.keys(all).length === 0 ? {} : { annotations: sortKeys(all) }),
  };
  const bytes = new TextEncoder().encode(JSON.stringify(document));
  const manifest = parseManifest(bytes, { label: 'the assembled index', mediaType });
  const children = [...chosen.map(({ node }) => node), ...beside.map(({ node }) => node)];
  return { node: { manifest, source: nowhere, children }, members: chosen };
}

/** The members in the order of their platforms. */
function onePerPlatform(members: readonly RunnableImage[]): RunnableImage[] {
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
  return [...byPlatform.entries()].sort(([a], [b]) => (a < b ? -1 : 1)).map(([, member]) => member);
}

/** An index has no blobs of its own, and its bytes are already here. */
const nowhere: ContentSource = {
  label: 'an assembled index',
  readManifest: () => Promise.reject(new Error('an assembled index is not read from anywhere')),
  openBlob: () => Promise.reject(new Error('an index has no blobs')),
};

function descriptorDocument({ annotations, ...descriptor }: Descriptor): object {
  return annotations === undefined
    ? descriptor
    : { ...descriptor, annotations: sortKeys(Object.fromEntries(annotations)) };
}

/** Refuses members that are not of one build. Who says nothing of its commit or version does not contradict. */
function refuseMixed(members: readonly RunnableImage[]): void {
  const differ = (of: (member: RunnableImage) => string | undefined): boolean =>
    new Set(members.map(of).filter((each) => each !== undefined)).size > 1;
  const commits = differ(({ revision }) => revision);
  if (!commits && !differ(({ version }) => version)) {
    return;
  }
  throw new HodError(commits ? 'mixed-commits' : 'mixed-versions', {
    what: commits
      ? 'the members were built from different commits'
      : 'the members say that they are different versions',
    object: members.map(({ platform }) => platformKey(platform)).join(', '),
    why: members.map((member) => {
      const says = [
        ...(member.revision === undefined ? [] : [`commit ${member.revision}`]),
        ...(member.version === undefined ? [] : [`version ${member.version}`]),
      ];
      return `${platformKey(member.platform)} (${memberLabel(member)}): ${says.join(', ') || 'says nothing of it'}`;
    }),
    next: 'build all platforms from one commit',
  });
}

function memberLabel({ node, manifest }: RunnableImage): string {
  return `${node.source.label} (${shortDigest(manifest.digest)})`;
}

function sortKeys(record: Record<string, string>): Record<string, string> {
  return Object.fromEntries(Object.entries(record).sort(([a], [b]) => (a < b ? -1 : 1)));
}
