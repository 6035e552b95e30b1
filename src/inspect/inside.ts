import { HodError } from '../core/errors';
import { kindOf } from '../core/oci/bundle';
import { runnableImages, type RunnableImage } from '../core/oci/content';
import { answerInside, type Inside, type InsideQuestion } from '../core/oci/inside';
import { parsePlatform, platformKey } from '../core/oci/platform';
import { locate } from '../session/locate';
import type { Session } from '../session/session';
import { readLayers } from './layers';

/** What has layers to look into: an image for a platform, or a bundle. */
export type LayeredContent = Pick<RunnableImage, 'manifest' | 'node'> & {
  readonly platform: RunnableImage['platform'] | undefined;
};

/**
 * Reads what the layers of an image contain, and answers a question about it.
 *
 * @throws {@link HodError} `layer-missing` where the question names a layer that is not there.
 */
export async function readInside(
  reference: string,
  { manifest, node }: LayeredContent,
  question: InsideQuestion,
): Promise<Inside> {
  const read = await readLayers(manifest, node.source, { hashing: false });
  const { layer } = question;
  if (layer !== undefined && layer > read.layers.length) {
    throw new HodError('layer-missing', {
      what: 'there is no such layer',
      object: `layer ${layer} of ${reference}`,
      why: `it has ${read.layers.length}`,
      next: 'name one of them, from 1',
    });
  }
  return answerInside(read, question);
}

/** A bundle, or one image for one platform. Throws `platform-missing` where it is not clear which, or there is none. */
export async function imageOf(
  reference: string,
  platform: string | undefined,
  session: Session,
): Promise<LayeredContent> {
  const node = await locate(session, reference);
  const { manifest } = node;
  if (manifest.kind === 'image' && kindOf(manifest) === 'bundle' && platform === undefined) {
    return { manifest, node, platform: undefined };
  }
  const images = await runnableImages(node);
  const wanted = platform === undefined ? undefined : platformKey(parsePlatform(platform));
  const found = images.filter((image) => wanted === undefined || platformKey(image.platform) === wanted);
  const [only] = found;
  if (only !== undefined && found.length === 1) {
    return only;
  }
  const known = images.map((image) => platformKey(image.platform)).join(', ');
  throw new HodError('platform-missing', {
    what: only === undefined ? 'there is no image for this platform' : 'there are images for several platforms',
    object: reference,
    why: known === '' ? 'it holds no image that runs somewhere' : `it has ${known}`,
    next:
      known === ''
        ? 'name an image, or a bundle without --platform'
        : `name one with --platform ${known.split(', ')[0] ?? ''}`,
  });
}
