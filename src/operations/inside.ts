import { HodError } from '../core/errors';
import { runnableImages, type RunnableImage } from '../core/oci/content';
import { parsePlatform, platformKey } from '../core/oci/platform';
import {
  toInsideDifference,
  toInsideResult,
  type InsideDifference,
  type InsideQuestion,
  type InsideResult,
} from '../results/inside';
import { locate } from '../session/locate';
import { lookInto } from './look-into';
import { withoutProduct, type Session, type SessionOptions } from '../session/session';

/** Which image is looked into. */
interface LookOptions extends SessionOptions {
  /** The platform, where there are several. */
  platform?: string | undefined;
}

/** What `inside` is told. */
export interface InsideOptions extends LookOptions, InsideQuestion {
  /** A reference, or the path of a build output. */
  reference: string;
}

/** What the layers of an image really contain. Each is read once, and nothing of them is kept. */
export async function inside({ reference, platform, ...options }: InsideOptions): Promise<InsideResult> {
  return withoutProduct(options, async (session) => {
    const looked = await lookInto(reference, await imageOf(session, reference, platform), false);
    const { layer } = options;
    if (layer !== undefined && layer > looked.layers.length) {
      throw new HodError('layer-missing', {
        what: 'there is no such layer',
        object: `layer ${layer} of ${reference}`,
        why: `it has ${looked.layers.length}`,
        next: 'name one of them, from 1',
      });
    }
    return toInsideResult(looked, options);
  });
}

/** What differs inside two images. */
export async function insideBoth(
  [from, to]: readonly [string, string],
  { platform, ...options }: LookOptions,
): Promise<InsideDifference> {
  return withoutProduct(options, async (session) => {
    const look = async (reference: string) => lookInto(reference, await imageOf(session, reference, platform), true);
    return toInsideDifference(await look(from), await look(to));
  });
}

/** One image for one platform. Throws `platform-missing` where it is not clear which, or there is none. */
async function imageOf(session: Session, reference: string, platform: string | undefined): Promise<RunnableImage> {
  const images = await runnableImages(await locate(session, reference));
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
    next: known === '' ? 'name an image' : `name one with --platform ${known.split(', ')[0] ?? ''}`,
  });
}
