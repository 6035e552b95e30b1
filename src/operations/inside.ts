import { readLayer } from '../archive/layer-entries';
import { unpacked } from '../archive/unpack';
import { HodError } from '../core/errors';
import { concernsOf, type Concern } from '../core/oci/concerns';
import { runnableImages, verified, type RunnableImage } from '../core/oci/content';
import type { Descriptor } from '../core/oci/descriptor';
import { LayerTree } from '../core/oci/layer-tree';
import { parsePlatform, platformKey } from '../core/oci/platform';
import {
  toInsideDifference,
  toInsideResult,
  type InsideDifference,
  type InsideQuestion,
  type InsideResult,
  type LookedInto,
} from '../results/inside';
import { locate } from '../session/locate';
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

/** The most entries that the layers of one image may have in all. */
const entryLimit = 1_000_000;

/** What the layers of an image really contain. Each is read once, and nothing of them is kept. */
export async function inside({ reference, platform, ...options }: InsideOptions): Promise<InsideResult> {
  return withoutProduct(options, async (session) => {
    const looked = await lookInto(session, reference, platform, false);
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
  return withoutProduct(options, async (session) =>
    toInsideDifference(await lookInto(session, from, platform, true), await lookInto(session, to, platform, true)),
  );
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

/** Reads all layers of an image. `hashing`: with the content of each file. */
async function lookInto(
  session: Session,
  reference: string,
  platform: string | undefined,
  hashing: boolean,
): Promise<LookedInto> {
  const image = await imageOf(session, reference, platform);
  const { manifest, node } = image;
  const { source } = node;
  const tree = new LayerTree();
  const layers: LookedInto['layers'][number][] = [];
  const found: LookedInto['found'][number][] = [];
  let count = 0;
  for (const [at, layer] of manifest.layers.entries()) {
    const number = at + 1;
    const label = `layer ${number} of ${source.label}`;
    tree.nextLayer();
    const before = count;
    const size = await readLayer(unpacked(await openLayer(layer, source), label), {
      label,
      hashing,
      entry: ({ secret, leadsOut, ...entry }) => {
        count += 1;
        if (count > entryLimit) {
          throw new HodError('archive-corrupt', {
            what: 'an image has too many files',
            object: source.label,
            why: `Hod looks at up to ${entryLimit} in its layers`,
            next: 'build it with less in it',
          });
        }
        tree.add(entry);
        const all: Concern[] = [
          ...(secret ? (['secret'] as const) : []),
          ...(leadsOut ? (['leads-out'] as const) : []),
          ...concernsOf(entry),
        ];
        found.push(...all.map((concern) => ({ concern, path: entry.path, layer: number })));
      },
    });
    layers.push({ number, digest: layer.digest, size: layer.size, unpacked: size, entries: count - before });
  }
  return { reference, image, tree, layers, found };
}

/** The bytes of a layer, checked against its digest while they pass. */
async function openLayer(layer: Descriptor, source: RunnableImage['node']['source']) {
  return source.openPlain?.(layer) ?? verified(await source.openBlob(layer), layer, source.label);
}
