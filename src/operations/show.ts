import { runnableImages, sizeOf, type RunnableImage } from '../core/oci/content';
import { platformKey } from '../core/oci/platform';
import { formatRepository } from '../core/oci/reference';
import type { ShowResult } from '../results/show';
import { locate } from '../session/locate';
import { withoutProduct, type SessionOptions } from '../session/session';

/** What `show` is told. */
export interface ShowOptions extends SessionOptions {
  /** A reference, or a path of an image layout. */
  reference: string;
}

/** What one image or index is: its digest, its platforms, and how large they are. */
export async function show({ reference, ...options }: ShowOptions): Promise<ShowResult> {
  return withoutProduct(options, async (session) => {
    const node = await locate(session, reference);
    const { repository } = node.source;
    return {
      reference,
      repository: repository === undefined ? null : formatRepository(repository),
      digest: node.manifest.digest,
      mediaType: node.manifest.mediaType,
      size: sizeOf(node),
      annotations: Object.fromEntries(node.manifest.annotations),
      platforms: (await runnableImages(node)).map(describeImage),
    };
  });
}

function describeImage({ node, manifest, platform, revision }: RunnableImage): ShowResult['platforms'][number] {
  return {
    platform: platformKey(platform),
    digest: manifest.digest,
    size: sizeOf(node),
    layers: manifest.layers.length,
    revision: revision ?? null,
  };
}
