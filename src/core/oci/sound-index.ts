import { HodError } from '../errors';
import type { ContentNode, RunnableImage } from './content';
import { shortDigest, type Digest } from './digest';
import { formatPlatform, isRunnable, platformKey, type Platform } from './platform';

/**
 * Looks into what a builder wrote: each platform must have one image, and an index must list each image
 * for the platform that its own config says. A node would be given the wrong one.
 *
 * Throws `platform-twice` and `platform-contradicted`, naming both.
 */
export function refuseUnsound(root: ContentNode, images: readonly RunnableImage[]): void {
  const listed = platformsListed(root);
  const byPlatform = new Map<string, RunnableImage>();
  for (const image of images) {
    const { digest } = image.manifest;
    const listings = listed.get(digest) ?? [];
    const other = listings.find((platform) => contradicts(platform, image.platform));
    if (other !== undefined) {
      throw new HodError('platform-contradicted', {
        what: 'an image is listed for another platform than its own',
        object: labelOf(image),
        why: `the index lists it for ${formatPlatform(other)}, and its config says ${formatPlatform(image.platform)}`,
        next: 'build it for the platform that it is to run on; nothing was tagged',
      });
    }
    // A config need not say which variant it is for; then the index does.
    const variant = image.platform.variant ?? listings.find((each) => each.variant !== undefined)?.variant;
    const key = platformKey({ ...image.platform, variant });
    const twin = byPlatform.get(key);
    if (twin !== undefined && twin.manifest.digest !== digest) {
      throw new HodError('platform-twice', {
        what: 'an index holds two images for one platform',
        object: `${key} in ${image.node.source.label}`,
        why: `${twin.manifest.digest} and ${digest} both say they are for ${key}`,
        next: 'build one image for each platform; nothing was tagged',
      });
    }
    byPlatform.set(key, image);
  }
}

/** What the indexes at and below a node list each manifest for; an index that is listed often is looked into once. */
function platformsListed(root: ContentNode): ReadonlyMap<Digest, readonly Platform[]> {
  const found = new Map<Digest, Platform[]>();
  const seen = new Set<Digest>();
  const visit = ({ manifest, children }: ContentNode): void => {
    if (manifest.kind !== 'index' || seen.has(manifest.digest)) {
      return;
    }
    seen.add(manifest.digest);
    for (const { digest, platform } of manifest.manifests) {
      if (platform !== undefined && isRunnable(platform)) {
        const known = found.get(digest) ?? [];
        if (!known.some((each) => platformKey(each) === platformKey(platform))) {
          found.set(digest, [...known, platform]);
        }
      }
    }
    children.forEach(visit);
  };
  visit(root);
  return found;
}

function contradicts(listed: Platform, own: Platform): boolean {
  const bothSay = listed.variant !== undefined && own.variant !== undefined;
  return (
    listed.os !== own.os ||
    listed.architecture !== own.architecture ||
    (bothSay && formatPlatform(listed) !== formatPlatform(own))
  );
}

function labelOf({ node, manifest }: RunnableImage): string {
  return `${shortDigest(manifest.digest)} in ${node.source.label}`;
}
