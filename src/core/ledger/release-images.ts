import { imagesByPlatform, nodesOf, type ContentNode } from '../oci/content';
import type { ReleaseImage } from './release';

/**
 * Returns the images that a component holds, and the config of each.
 *
 * @param platforms `os/arch[/variant]` of everything in it that runs.
 */
export function releaseImages(component: string, node: ContentNode, platforms: readonly string[]): ReleaseImage[] {
  const configs = new Map(
    nodesOf(node).map(({ manifest }) => [
      manifest.digest,
      manifest.kind === 'image' ? manifest.config.digest : undefined,
    ]),
  );
  return imagesByPlatform(node.manifest, platforms).map(({ platform, digest }) => {
    const config = configs.get(digest);
    return { component, platform, digest, ...(config === undefined ? {} : { config }) };
  });
}
