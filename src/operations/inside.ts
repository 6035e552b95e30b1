import { comparePaths, type InsideQuestion } from '../core/oci/inside';
import { imageOf, readInside } from '../inspect/inside';
import { readHashedTree } from '../inspect/layers';
import { toInsideDifference, toInsideResult, type InsideDifference, type InsideResult } from '../results/inside';
import { tellingRemovals } from '../session/open-ledger';
import { withoutProduct, withProductIfAny, type SessionOptions } from '../session/session';

/** Which image is looked into. */
interface ImageOptions extends SessionOptions {
  /** The platform, where there are several. */
  platform?: string | undefined;
}

/** What `inside` is told. */
export interface InsideOptions extends ImageOptions, InsideQuestion {
  /** A reference, or the path of a build output. */
  reference: string;
}

/** What the layers of an image really contain. Each is read once, and nothing of them is kept. */
export async function inside({ reference, platform, ...options }: InsideOptions): Promise<InsideResult> {
  return withProductIfAny(options, async (config, session) => {
    const image = await tellingRemovals(config, session, () => imageOf(reference, platform, session));
    const found = await readInside(reference, image, options);
    return toInsideResult({ reference, image }, found, config?.allowedInside ?? []);
  });
}

/** What differs inside two images. */
export async function insideBoth(
  [from, to]: readonly [string, string],
  { platform, ...options }: ImageOptions,
): Promise<InsideDifference> {
  return withoutProduct(options, async (session) => {
    const read = async (reference: string) => {
      const image = await imageOf(reference, platform, session);
      return { reference, image, tree: await readHashedTree(image.manifest, image.node) };
    };
    const [one, other] = [await read(from), await read(to)];
    return toInsideDifference(one, other, comparePaths(one.tree, other.tree));
  });
}
