import * as z from 'zod';
import type {
  ComparedSide,
  Comparison,
  ComponentCommit,
  ComponentComparison,
  PlacedSide,
  PlatformChange,
} from '../inspect/compare';
import { digest, includedResult, toIncludedResult } from './common';
import { pathDifference, toPathDifference } from './inside';

const side = z.strictObject({
  /** As it was named. */
  name: z.string(),
  /** An environment, a release of the ledger, or an image by itself. */
  kind: z.enum(['environment', 'release', 'image']),
  version: z.string().nullable(),
  commit: z.string().nullable(),
});
const commit = z.strictObject({
  commit: z.string(),
  author: z.string(),
  at: z.string(),
  subject: z.string(),
  /** The components that it concerns: they may be of different commits. */
  components: z.array(z.string()),
});
const layer = z.strictObject({ digest, size: z.number().int() });
const placed = z.strictObject({
  reference: z.string(),
  digest,
  included: includedResult,
  version: z.string().nullable(),
  commit: z.string().nullable(),
});

export const compareResultSchema = z.strictObject({
  from: side,
  to: side,
  /** What one has and the other has not; null where git cannot tell, and why. */
  commits: z.strictObject({ added: z.array(commit), left: z.array(commit) }).nullable(),
  gap: z.string().nullable(),
  components: z.array(
    z.strictObject({
      component: z.string(),
      /** The name that it had in the first, where it has another in the second. */
      was: z.string().nullable(),
      /** `left-out`: one side is a release of other components of the product only. */
      state: z.enum(['same', 'changed', 'added', 'removed', 'left-out']),
      from: placed.nullable(),
      to: placed.nullable(),
      /** The files of a bundle that differ; null for an image, and where they were not asked for. */
      files: pathDifference.nullable(),
      platforms: z.strictObject({
        added: z.array(z.string()),
        removed: z.array(z.string()),
        changed: z.array(
          z.strictObject({
            platform: z.string(),
            /** Bytes of all layers, as they are shipped. */
            from: z.strictObject({ digest, size: z.number().int() }),
            to: z.strictObject({ digest, size: z.number().int() }),
            layers: z.strictObject({ added: z.array(layer), removed: z.array(layer), shared: z.number().int() }),
            says: z.array(
              z.strictObject({
                what: z.string(),
                name: z.string(),
                from: z.string().nullable(),
                to: z.string().nullable(),
              }),
            ),
            /** The paths that differ; null where they were not asked for. */
            inside: pathDifference.nullable(),
          }),
        ),
      }),
    }),
  ),
});
export type CompareResult = z.infer<typeof compareResultSchema>;

/** What differs between two sides, as a document. */
export function toCompareResult({ from, to, commits, components }: Comparison): CompareResult {
  return {
    from: toSide(from),
    to: toSide(to),
    commits: 'gap' in commits ? null : { added: commits.added.map(toCommit), left: commits.left.map(toCommit) },
    gap: 'gap' in commits ? commits.gap : null,
    components: components.map(toComponent),
  };
}

function toCommit({ components, ...about }: ComponentCommit): z.infer<typeof commit> {
  return { ...about, components: [...components] };
}

function toSide({ name, kind, version, commit: of }: ComparedSide): CompareResult['from'] {
  return { name, kind, version: version ?? null, commit: of ?? null };
}

function toComponent({
  component,
  was,
  state,
  from,
  to,
  files,
  platforms,
}: ComponentComparison): CompareResult['components'][number] {
  return {
    component,
    was: was ?? null,
    state,
    from: toPlaced(from),
    to: toPlaced(to),
    files: files === undefined ? null : toPathDifference(files),
    platforms: {
      added: [...platforms.added],
      removed: [...platforms.removed],
      changed: platforms.changed.map(toPlatform),
    },
  };
}

function toPlaced(side: PlacedSide | undefined): z.infer<typeof placed> | null {
  if (side === undefined) {
    return null;
  }
  const { reference, digest: stands, included, version, commit: of } = side;
  return {
    reference,
    digest: stands,
    included: toIncludedResult(included),
    version: version ?? null,
    commit: of ?? null,
  };
}

function toPlatform(change: PlatformChange): CompareResult['components'][number]['platforms']['changed'][number] {
  const { platform, from, to, layers, says, inside } = change;
  const toLayers = (all: typeof layers.added) => all.map(({ digest: own, size }) => ({ digest: own, size }));
  return {
    platform,
    from: { ...from },
    to: { ...to },
    layers: { added: toLayers(layers.added), removed: toLayers(layers.removed), shared: layers.shared },
    says: says.map(({ what, name, from: was, to: is }) => ({ what, name, from: was ?? null, to: is ?? null })),
    inside: inside === undefined ? null : toPathDifference(inside),
  };
}
