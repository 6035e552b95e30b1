import * as z from 'zod';
import { concerns, fails } from '../core/oci/concerns';
import type { ImagePath, Inside, PathDifference } from '../core/oci/inside';
import { platformKey } from '../core/oci/platform';
import type { LayeredContent } from '../inspect/inside';
import { digest } from './common';

const path = z.strictObject({
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
  /** Null of a bundle. */
  platform: z.string().nullable(),
  digest,
  layers: z.array(
    z.strictObject({
      number: z.number().int(),
      digest,
      /** Bytes as it is shipped, and unpacked. */
      size: z.number().int(),
      unpacked: z.number().int(),
      members: z.number().int(),
      /** Bytes in it that a later layer hides. */
      hidden: z.number().int(),
    }),
  ),
  files: z.number().int(),
  /** Bytes of all files that are there. */
  size: z.number().int(),
  /** All that is shipped, and seen by nobody. */
  hiddenTotal: z.strictObject({ files: z.number().int(), bytes: z.number().int() }),
  /**
   * What somebody should look at. `hidden`: a later layer hides it, and it is shipped all the same; `fails`: `--check` ends
   * with exit 3 for it.
   */
  concerns: z.array(
    z.strictObject({
      concern: z.enum(concerns),
      path: z.string(),
      layer: z.number().int(),
      hidden: z.boolean(),
      fails: z.boolean(),
    }),
  ),
  /** Whether something was asked for: with --list, --find, --layer or --hidden. */
  narrowed: z.boolean(),
  /** The largest files; none where something else was asked for. */
  largest: z.array(path),
  /** What was asked for with --list, --find, --layer or --hidden; the top of the tree where nothing was. */
  paths: z.array(path),
  hidden: z.array(hidden),
});
export type InsideResult = z.infer<typeof insideResultSchema>;
export type InsidePath = z.infer<typeof path>;

/** The paths that differ between two images. */
export const pathDifference = z.strictObject({
  added: z.array(path),
  removed: z.array(path),
  changed: z.array(
    z.strictObject({
      path: z.string(),
      what: z.array(z.enum(['kind', 'content', 'mode', 'link'])),
      from: path,
      to: path,
    }),
  ),
});
export type PathDifferenceResult = z.infer<typeof pathDifference>;

export const insideDifferenceSchema = pathDifference.extend({
  from: z.strictObject({ reference: z.string(), platform: z.string().nullable(), digest }),
  to: z.strictObject({ reference: z.string(), platform: z.string().nullable(), digest }),
});
export type InsideDifference = z.infer<typeof insideDifferenceSchema>;

/** An image that was read, as it was named. */
export interface NamedImage {
  readonly reference: string;
  readonly image: LayeredContent;
}

/**
 * What is inside an image, as a document.
 *
 * @param allowed Patterns of paths that `--check` lets pass.
 */
export function toInsideResult(
  { reference, image }: NamedImage,
  inside: Inside,
  allowed: readonly string[],
): InsideResult {
  return {
    reference,
    platform: image.platform === undefined ? null : platformKey(image.platform),
    digest: image.manifest.digest,
    ...inside,
    layers: [...inside.layers],
    concerns: inside.concerns.map((each) => ({ ...each, fails: fails(each, allowed) })),
    largest: inside.largest.map(toPath),
    paths: inside.paths.map(toPath),
    hidden: [...inside.hidden],
  };
}

/** What differs from one image to another, as a document. */
export function toInsideDifference(from: NamedImage, to: NamedImage, difference: PathDifference): InsideDifference {
  const name = ({ reference, image }: NamedImage) => {
    return {
      reference,
      platform: image.platform === undefined ? null : platformKey(image.platform),
      digest: image.manifest.digest,
    };
  };
  return { from: name(from), to: name(to), ...toPathDifference(difference) };
}

/** The paths that differ from one image to another, as a document. */
export function toPathDifference({ added, removed, changed }: PathDifference): PathDifferenceResult {
  return {
    added: added.map(toPath),
    removed: removed.map(toPath),
    changed: changed.map(({ path, what, from, to }) => {
      return { path, what: [...what], from: toPath(from), to: toPath(to) };
    }),
  };
}

function toPath(path: ImagePath): InsidePath {
  return { ...path, link: path.link ?? null };
}
