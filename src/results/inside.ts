import * as z from 'zod';
import { concerns } from '../core/oci/concerns';
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

export const insideDifferenceSchema = z.strictObject({
  from: z.strictObject({ reference: z.string(), platform: z.string(), digest }),
  to: z.strictObject({ reference: z.string(), platform: z.string(), digest }),
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
export type InsideDifference = z.infer<typeof insideDifferenceSchema>;
