import picomatch from 'picomatch';
import { readLayer } from '../archive/layer-entries';
import { unpacked } from '../archive/unpack';
import { HodError } from '../core/errors';
import { concernsOf, type Concern } from '../core/oci/concerns';
import { runnableImages, verified, type RunnableImage } from '../core/oci/content';
import type { Descriptor } from '../core/oci/descriptor';
import { LayerTree, type TreeNode } from '../core/oci/layer-tree';
import { parsePlatform, platformKey } from '../core/oci/platform';
import type { InsideDifference, InsideEntry, InsideResult } from '../results/inside';
import { locate } from '../session/locate';
import { withoutProduct, type Session, type SessionOptions } from '../session/session';

/** Which image is looked into. */
interface LookOptions extends SessionOptions {
  /** The platform, where there are several. */
  platform?: string | undefined;
}

/** What `inside` is told. */
export interface InsideOptions extends LookOptions {
  /** A reference, or the path of a build output. */
  reference: string;
  /** Only paths that this pattern matches. */
  find?: string | undefined;
  /** Only what this layer brought, from 1. */
  layer?: number | undefined;
  /** What is shipped and hidden. */
  wasted?: true | undefined;
  /** Every path. */
  list?: true | undefined;
}

/** The most entries that the layers of one image may have in all. */
const entryLimit = 1_000_000;
const largestTold = 10;
/** How deep the tree is shown where nothing else was asked for. */
const usualDepth = 2;

/** What the layers of an image really contain. Each is read once, and nothing of them is kept. */
export async function inside(options: InsideOptions): Promise<InsideResult> {
  return withoutProduct(options, async (session) => {
    const image = await imageOf(session, options.reference, options.platform);
    const { tree, layers, found } = await lookInto(image, false);
    if (options.layer !== undefined && options.layer > layers.length) {
      throw new HodError('layer-missing', {
        what: 'there is no such layer',
        object: `layer ${options.layer} of ${options.reference}`,
        why: `it has ${layers.length}`,
        next: 'name one of them, from 1',
      });
    }
    const sizes = sizesIn(tree);
    const all = [...tree.paths()].map(([path, node]) => toEntry(path, node, sizes.get(node) ?? node.size));
    const files = all.filter(({ kind }) => kind === 'file');
    const isAsked = matcher(options);
    const hidden = tree.hidden.map((each) => ({ ...each, layer: each.layer + 1, by: each.by + 1 }));
    const narrowed = [options.find, options.layer, options.wasted, options.list].some((each) => each !== undefined);
    const isHidden = new Set(hidden.map(({ path, layer }) => `${layer} ${path}`));
    return {
      reference: options.reference,
      platform: platformKey(image.platform),
      digest: image.manifest.digest,
      layers: layers.map((layer) => ({
        ...layer,
        hidden: sum(hidden.filter((each) => each.layer === layer.number).map(({ size }) => size)),
      })),
      files: files.length,
      size: sum(files.map(({ size }) => size)),
      wasted: { files: hidden.length, bytes: sum(hidden.map(({ size }) => size)) },
      concerns: found
        .map((each) => ({ ...each, hidden: isHidden.has(`${each.layer} ${each.path}`) }))
        .filter(({ concern, hidden: gone }) => concern === 'secret' || concern === 'leads-out' || !gone)
        .filter(({ path, layer }) => isAbout(options, path, layer)),
      narrowed,
      largest: narrowed
        ? []
        : [...files].sort((a, b) => b.size - a.size || (a.path < b.path ? -1 : 1)).slice(0, largestTold),
      entries: options.wasted === true ? [] : all.filter(isAsked),
      hidden: hidden
        .filter(({ path, layer }) => isAbout(options, path, layer))
        .sort((a, b) => b.size - a.size || (a.path < b.path ? -1 : 1)),
    };
  });
}

/** What differs inside two images. */
export async function insideBoth(
  references: readonly [string, string],
  options: LookOptions,
): Promise<InsideDifference> {
  return withoutProduct(options, async (session) => {
    const [from, to] = [
      await imageOf(session, references[0], options.platform),
      await imageOf(session, references[1], options.platform),
    ];
    const [before, after] = [await entriesOf(from), await entriesOf(to)];
    const name = (at: 0 | 1, image: RunnableImage) => ({
      reference: references[at],
      platform: platformKey(image.platform),
      digest: image.manifest.digest,
    });
    const changed: InsideDifference['changed'] = [];
    for (const [path, [entry, node]] of after) {
      const [old, oldNode] = before.get(path) ?? [];
      if (old !== undefined && oldNode !== undefined) {
        const what = [
          ...(old.kind === entry.kind ? [] : ['kind' as const]),
          ...(oldNode.content === node.content ? [] : ['content' as const]),
          ...(old.mode === entry.mode ? [] : ['mode' as const]),
          ...(old.link === entry.link ? [] : ['link' as const]),
        ];
        if (what.length > 0) {
          changed.push({ path, what, from: old, to: entry });
        }
      }
    }
    return {
      from: name(0, from),
      to: name(1, to),
      added: [...after].filter(([path]) => !before.has(path)).map(([, [entry]]) => entry),
      removed: [...before].filter(([path]) => !after.has(path)).map(([, [entry]]) => entry),
      changed,
    };
  });
}

async function entriesOf(image: RunnableImage): Promise<Map<string, readonly [InsideEntry, TreeNode]>> {
  const { tree } = await lookInto(image, true);
  return new Map([...tree.paths()].map(([path, node]) => [path, [toEntry(path, node, node.size), node] as const]));
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

interface Found {
  concern: Concern;
  path: string;
  layer: number;
}

async function lookInto({ manifest, node: { source } }: RunnableImage, hashing: boolean) {
  const tree = new LayerTree();
  const layers: Omit<InsideResult['layers'][number], 'hidden'>[] = [];
  const found: Found[] = [];
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
  return { tree, layers, found };
}

/** The bytes of a layer, checked against its digest while they pass. */
async function openLayer(layer: Descriptor, source: RunnableImage['node']['source']) {
  return source.openPlain?.(layer) ?? verified(await source.openBlob(layer), layer, source.label);
}

/** Bytes of all files below each folder. */
function sizesIn(tree: LayerTree): Map<TreeNode, number> {
  const sizes = new Map<TreeNode, number>();
  const measure = (node: TreeNode): number => {
    if (node.children === undefined) {
      return node.kind === 'file' ? node.size : 0;
    }
    const size = sum([...node.children.values()].map(measure));
    sizes.set(node, size);
    return size;
  };
  measure(tree.root);
  return sizes;
}

function toEntry(path: string, { kind, mode, link, layer }: TreeNode, size: number): InsideEntry {
  return { path, kind, size, mode: (mode & 0o7777).toString(8).padStart(4, '0'), link: link ?? null, layer: layer + 1 };
}

/** Which entries are told. */
function matcher({ find, layer, list }: InsideOptions): (entry: InsideEntry) => boolean {
  const matches = patternOf(find);
  const all = find !== undefined || layer !== undefined || list === true;
  return (entry) =>
    matches(entry.path) &&
    (layer === undefined || entry.layer === layer) &&
    (all || entry.path.split('/').length <= usualDepth);
}

function isAbout({ find, layer }: InsideOptions, path: string, of: number): boolean {
  return patternOf(find)(path) && (layer === undefined || layer === of);
}

/** A pattern without a folder matches names, one with a folder paths. */
function patternOf(find: string | undefined): (path: string) => boolean {
  return find === undefined
    ? () => true
    : picomatch(find.replace(/^\//, ''), { dot: true, basename: !find.includes('/') });
}

function sum(numbers: readonly number[]): number {
  return numbers.reduce((all, each) => all + each, 0);
}
