import picomatch from 'picomatch';
import type { Concern } from './concerns';
import type { Digest } from './digest';
import type { HiddenFile, LayerTree, TreeNode } from './layer-tree';

/** A layer that was read. Sizes are bytes: as it is shipped, and unpacked; `members`: how many its archive has. */
export interface ReadLayer {
  /** From 1. */
  readonly number: number;
  readonly digest: Digest;
  readonly size: number;
  readonly unpacked: number;
  readonly members: number;
}

/** What the layers of an image hold. */
export interface LayersRead {
  readonly tree: LayerTree;
  readonly layers: readonly ReadLayer[];
  readonly found: readonly { readonly concern: Concern; readonly path: string; readonly layer: number }[];
}

/** A path of an image. */
export interface ImagePath {
  readonly path: string;
  readonly kind: TreeNode['kind'];
  /** Bytes of a file; of a folder, of all files below it. */
  readonly size: number;
  /** Permissions as digits: `0755`, `4755`. */
  readonly mode: string;
  readonly link: string | undefined;
  /** The number of the layer that brought it, from 1. */
  readonly layer: number;
}

/** What is asked for of the inside of an image. */
export interface InsideQuestion {
  /** Only paths that this pattern matches. */
  find?: string | undefined;
  /** Only what this layer brought, from 1. */
  layer?: number | undefined;
  /** What is shipped and hidden. */
  hidden?: true | undefined;
  /** Every path. */
  list?: true | undefined;
}

/** What is inside an image, as far as a question asks for it. */
export interface Inside {
  /** `hidden`: bytes in a layer that a later one hides. */
  readonly layers: readonly (ReadLayer & { readonly hidden: number })[];
  /** How many files there are, and their bytes. */
  readonly files: number;
  readonly size: number;
  readonly concerns: readonly {
    readonly concern: Concern;
    readonly path: string;
    readonly layer: number;
    readonly hidden: boolean;
  }[];
  /** Whether something was asked for. */
  readonly narrowed: boolean;
  readonly largest: readonly ImagePath[];
  readonly paths: readonly ImagePath[];
  /** All of it, and that which is asked for; layers count from 1. */
  readonly hiddenTotal: { readonly files: number; readonly bytes: number };
  readonly hidden: readonly HiddenFile[];
}

const largestTold = 10;
/** How deep the tree is shown where nothing else was asked for. */
const usualDepth = 2;

/** Answers a question about the inside of an image. */
export function answerInside({ tree, layers, found }: LayersRead, question: InsideQuestion): Inside {
  const { find, layer, hidden: onlyHidden, list } = question;
  const narrowed = [find, layer, onlyHidden, list].some((each) => each !== undefined);
  const isAbout = aboutOf(question);
  const all = tree.hidden.map((each) => ({ ...each, layer: each.layer + 1, by: each.by + 1 }));
  const isHidden = new Set(all.map((each) => `${each.layer} ${each.path}`));
  return {
    layers: layers.map((each) => ({
      ...each,
      hidden: sum(all.filter((file) => file.layer === each.number).map(({ size }) => size)),
    })),
    ...pathsOf(
      tree,
      narrowed,
      (path) => onlyHidden !== true && isAbout(path) && (narrowed || path.path.split('/').length <= usualDepth),
    ),
    concerns: found
      .map((each) => ({ ...each, hidden: isHidden.has(`${each.layer} ${each.path}`) }))
      .filter(({ concern, hidden }) => concern === 'secret' || concern === 'leads-out' || !hidden)
      .filter(isAbout),
    narrowed,
    hiddenTotal: { files: all.length, bytes: sum(all.map(({ size }) => size)) },
    hidden: all.filter(isAbout).sort(bySize),
  };
}

/** Counts all files. An image may have a million paths: only those that are answered are kept. */
function pathsOf(
  tree: LayerTree,
  narrowed: boolean,
  isAnswered: (path: ImagePath) => boolean,
): Pick<Inside, 'files' | 'size' | 'largest' | 'paths'> {
  const sizes = sizesIn(tree);
  let [files, size] = [0, 0];
  let largest: ImagePath[] = [];
  const paths: ImagePath[] = [];
  for (const [path, node] of tree.paths()) {
    const each = imagePath(path, node, sizes.get(node) ?? node.size);
    if (node.kind === 'file') {
      files += 1;
      size += node.size;
      if (!narrowed && (largest.length < largestTold || node.size >= (largest.at(-1)?.size ?? 0))) {
        largest = [...largest, each].sort(bySize).slice(0, largestTold);
      }
    }
    if (isAnswered(each)) {
      paths.push(each);
    }
  }
  return { files, size, largest, paths };
}

function bySize(a: { size: number; path: string }, b: { size: number; path: string }): number {
  return b.size - a.size || (a.path < b.path ? -1 : 1);
}

/** The paths that differ between two images. */
export interface PathDifference {
  readonly added: readonly ImagePath[];
  readonly removed: readonly ImagePath[];
  readonly changed: readonly {
    readonly path: string;
    readonly what: readonly ('kind' | 'content' | 'mode' | 'link')[];
    readonly from: ImagePath;
    readonly to: ImagePath;
  }[];
}

/** Compares the paths of two images, each read with the content of its files. */
export function comparePaths(from: LayerTree, to: LayerTree): PathDifference {
  const [before, after] = [pathsWithNodes(from), pathsWithNodes(to)];
  const changed: PathDifference['changed'][number][] = [];
  for (const [path, { file, node }] of after) {
    const old = before.get(path);
    if (old !== undefined) {
      const what = [
        ...(old.file.kind === file.kind ? [] : (['kind'] as const)),
        ...(old.node.content === node.content ? [] : (['content'] as const)),
        ...(old.file.mode === file.mode ? [] : (['mode'] as const)),
        ...(old.file.link === file.link ? [] : (['link'] as const)),
      ];
      if (what.length > 0) {
        changed.push({ path, what, from: old.file, to: file });
      }
    }
  }
  return {
    added: [...after].filter(([path]) => !before.has(path)).map(([, { file }]) => file),
    removed: [...before].filter(([path]) => !after.has(path)).map(([, { file }]) => file),
    changed,
  };
}

function pathsWithNodes(tree: LayerTree): Map<string, { file: ImagePath; node: TreeNode }> {
  return new Map([...tree.paths()].map(([path, node]) => [path, { file: imagePath(path, node, node.size), node }]));
}

function imagePath(path: string, { kind, mode, link, layer }: TreeNode, size: number): ImagePath {
  return { path, kind, size, mode: (mode & 0o7777).toString(8).padStart(4, '0'), link, layer: layer + 1 };
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

/** What a question is about. A pattern without a folder matches names, one with a folder paths. */
function aboutOf({ find, layer }: InsideQuestion): (each: { path: string; layer: number }) => boolean {
  const matches =
    find === undefined ? () => true : picomatch(find.replace(/^\//, ''), { dot: true, basename: !find.includes('/') });
  return (each) => matches(each.path) && (layer === undefined || each.layer === layer);
}

function sum(numbers: readonly number[]): number {
  return numbers.reduce((all, each) => all + each, 0);
}
