import picomatch from 'picomatch';
import * as z from 'zod';
import { concerns, type Concern } from '../core/oci/concerns';
import type { RunnableImage } from '../core/oci/content';
import type { LayerTree, TreeNode } from '../core/oci/layer-tree';
import { platformKey } from '../core/oci/platform';
import { digest } from './common';

const entry = z.strictObject({
  path: z.string(),
  kind: z.enum(['file', 'folder', 'symlink', 'hardlink', 'device', 'fifo']),
  /** Bytes of a file; of a folder, of all files below it. */
  size: z.number().int(),
  /** Permissions as digits: `0755`, `4755`. */
  mode: z.string(),
  link: z.string().nullable(),
  /** The number of the layer that brought it, from 1. */
  layer: z.number().int(),
});
const hidden = z.strictObject({
  path: z.string(),
  size: z.number().int(),
  layer: z.number().int(),
  /** The layer that deleted it, or wrote over it. */
  by: z.number().int(),
  how: z.enum(['deleted', 'overwritten']),
});

export const insideResultSchema = z.strictObject({
  reference: z.string(),
  platform: z.string(),
  digest,
  layers: z.array(
    z.strictObject({
      number: z.number().int(),
      digest,
      /** Bytes as it is shipped, and unpacked. */
      size: z.number().int(),
      unpacked: z.number().int(),
      entries: z.number().int(),
      /** Bytes in it that a later layer hides. */
      hidden: z.number().int(),
    }),
  ),
  files: z.number().int(),
  /** Bytes of all files that are there. */
  size: z.number().int(),
  /** What is shipped, and seen by nobody: `bytes` of `files`. */
  wasted: z.strictObject({ files: z.number().int(), bytes: z.number().int() }),
  /** What somebody should look at. `hidden`: a later layer hides it, and it is shipped all the same. */
  concerns: z.array(
    z.strictObject({ concern: z.enum(concerns), path: z.string(), layer: z.number().int(), hidden: z.boolean() }),
  ),
  /** Whether something was asked for: with --list, --find, --layer or --wasted. */
  narrowed: z.boolean(),
  /** The largest files; none where something else was asked for. */
  largest: z.array(entry),
  /** What was asked for with --list, --find, --layer or --wasted; the top of the tree where nothing was. */
  entries: z.array(entry),
  hidden: z.array(hidden),
});
export type InsideResult = z.infer<typeof insideResultSchema>;
export type InsideEntry = z.infer<typeof entry>;

/** The paths that differ between two images. */
export const pathDifference = z.strictObject({
  added: z.array(entry),
  removed: z.array(entry),
  changed: z.array(
    z.strictObject({
      path: z.string(),
      what: z.array(z.enum(['kind', 'content', 'mode', 'link'])),
      from: entry,
      to: entry,
    }),
  ),
});
export type PathDifference = z.infer<typeof pathDifference>;

export const insideDifferenceSchema = pathDifference.extend({
  from: z.strictObject({ reference: z.string(), platform: z.string(), digest }),
  to: z.strictObject({ reference: z.string(), platform: z.string(), digest }),
});
export type InsideDifference = z.infer<typeof insideDifferenceSchema>;

/** What is asked for of the inside of an image. */
export interface InsideQuestion {
  /** Only paths that this pattern matches. */
  find?: string | undefined;
  /** Only what this layer brought, from 1. */
  layer?: number | undefined;
  /** What is shipped and hidden. */
  wasted?: true | undefined;
  /** Every path. */
  list?: true | undefined;
}

/** An image that was looked into. */
export interface LookedInto {
  readonly reference: string;
  readonly image: RunnableImage;
  readonly tree: LayerTree;
  readonly layers: readonly Omit<InsideResult['layers'][number], 'hidden'>[];
  readonly found: readonly { readonly concern: Concern; readonly path: string; readonly layer: number }[];
}

const largestTold = 10;
/** How deep the tree is shown where nothing else was asked for. */
const usualDepth = 2;

export function toInsideResult(
  { reference, image, tree, layers, found }: LookedInto,
  question: InsideQuestion,
): InsideResult {
  const sizes = sizesIn(tree);
  const { find, layer, wasted, list } = question;
  const narrowed = [find, layer, wasted, list].some((each) => each !== undefined);
  const isAbout = aboutOf(question);
  const bySize = (a: { size: number; path: string }, b: { size: number; path: string }) =>
    b.size - a.size || (a.path < b.path ? -1 : 1);
  // An image may have a million paths: only those that are answered are kept.
  let [files, size] = [0, 0];
  let largest: InsideEntry[] = [];
  const entries: InsideEntry[] = [];
  for (const [path, node] of tree.paths()) {
    const each = toEntry(path, node, sizes.get(node) ?? node.size);
    if (node.kind === 'file') {
      files += 1;
      size += node.size;
      if (!narrowed && (largest.length < largestTold || node.size >= (largest.at(-1)?.size ?? 0))) {
        largest = [...largest, each].sort(bySize).slice(0, largestTold);
      }
    }
    if (wasted !== true && isAbout(each) && (narrowed || path.split('/').length <= usualDepth)) {
      entries.push(each);
    }
  }
  const hidden = tree.hidden.map((each) => ({ ...each, layer: each.layer + 1, by: each.by + 1 }));
  const isHidden = new Set(hidden.map((each) => `${each.layer} ${each.path}`));
  return {
    reference,
    platform: platformKey(image.platform),
    digest: image.manifest.digest,
    layers: layers.map((each) => ({
      ...each,
      hidden: sum(hidden.filter((file) => file.layer === each.number).map(({ size }) => size)),
    })),
    files,
    size,
    wasted: { files: hidden.length, bytes: sum(hidden.map((each) => each.size)) },
    concerns: found
      .map((each) => ({ ...each, hidden: isHidden.has(`${each.layer} ${each.path}`) }))
      .filter(({ concern, hidden: gone }) => concern === 'secret' || concern === 'leads-out' || !gone)
      .filter(isAbout),
    narrowed,
    largest,
    entries,
    hidden: hidden.filter(isAbout).sort(bySize),
  };
}

/** What differs from one image to another, each looked into with the content of its files. */
export function toInsideDifference(from: LookedInto, to: LookedInto): InsideDifference {
  const name = ({ reference, image }: LookedInto) => {
    return { reference, platform: platformKey(image.platform), digest: image.manifest.digest };
  };
  return { from: name(from), to: name(to), ...toPathDifference(from, to) };
}

/** The paths that differ from one image to another. */
export function toPathDifference(from: Pick<LookedInto, 'tree'>, to: Pick<LookedInto, 'tree'>): PathDifference {
  const [before, after] = [entriesOf(from.tree), entriesOf(to.tree)];
  const changed: PathDifference['changed'] = [];
  for (const [path, { entry, node }] of after) {
    const old = before.get(path);
    if (old !== undefined) {
      const what = [
        ...(old.entry.kind === entry.kind ? [] : (['kind'] as const)),
        ...(old.node.content === node.content ? [] : (['content'] as const)),
        ...(old.entry.mode === entry.mode ? [] : (['mode'] as const)),
        ...(old.entry.link === entry.link ? [] : (['link'] as const)),
      ];
      if (what.length > 0) {
        changed.push({ path, what, from: old.entry, to: entry });
      }
    }
  }
  return {
    added: [...after].filter(([path]) => !before.has(path)).map(([, { entry }]) => entry),
    removed: [...before].filter(([path]) => !after.has(path)).map(([, { entry }]) => entry),
    changed,
  };
}

function entriesOf(tree: LayerTree): Map<string, { entry: InsideEntry; node: TreeNode }> {
  return new Map([...tree.paths()].map(([path, node]) => [path, { entry: toEntry(path, node, node.size), node }]));
}

function toEntry(path: string, { kind, mode, link, layer }: TreeNode, size: number): InsideEntry {
  return { path, kind, size, mode: (mode & 0o7777).toString(8).padStart(4, '0'), link: link ?? null, layer: layer + 1 };
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
