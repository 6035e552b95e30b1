import * as z from 'zod';
import type { Shown, ShownLayer, ShownPlatform, ShownRun } from '../inspect/show';
import { digest } from './common';
import { foundResult, toFound, type FoundInProduct } from './identify';

const layer = z.strictObject({
  digest,
  size: z.number().int(),
  /** Bytes as it is unpacked; null where it was not read. */
  unpacked: z.number().int().nullable(),
});

export const showResultSchema = z.strictObject({
  reference: z.string(),
  repository: z.string().nullable(),
  kind: z.enum(['image', 'index', 'bundle', 'artifact']),
  digest,
  mediaType: z.string(),
  /** Of everything below it, each blob and manifest once. */
  size: z.number().int(),
  /** How to pull it, by digest; null for what is in no registry. */
  pull: z.string().nullable(),
  annotations: z.record(z.string(), z.string()),
  /** Bytes that several platforms share. */
  shared: z.number().int(),
  platforms: z.array(
    z.strictObject({
      platform: z.string(),
      digest,
      size: z.number().int(),
      /** Bytes as it is unpacked; null where its layers were not read. */
      unpacked: z.number().int().nullable(),
      layers: z.number().int(),
      created: z.string().nullable(),
      revision: z.string().nullable(),
      version: z.string().nullable(),
      /** The image that it was built on, where it says so. */
      base: z.strictObject({ name: z.string().nullable(), digest: z.string().nullable() }).nullable(),
    }),
  ),
  /** What is listed beside its images, such as attestations, and what refers to it. */
  referrers: z.array(
    z.strictObject({
      digest,
      type: z.string(),
      size: z.number().int(),
      about: z.string().nullable(),
      /** Of each signed document in it; null where it holds none that Hod can check. */
      signed: z
        .array(
          z.strictObject({
            /** Who signed it, by `trust:` in hod.yaml; null where nobody did that is trusted. */
            by: z.string().nullable(),
            /** The key, or why it does not count. */
            detail: z.string(),
            /** The type of the statement; null where it is none. */
            predicateType: z.string().nullable(),
          }),
        )
        .nullable(),
    }),
  ),
  /** Which release of the product it is, and where that is served; null where hod.yaml does not name its repository. */
  release: foundResult.nullable(),
  /** How the image runs, and how it was made; null where several platforms are shown. */
  image: z
    .strictObject({
      entrypoint: z.array(z.string()),
      command: z.array(z.string()),
      user: z.string().nullable(),
      workingFolder: z.string().nullable(),
      ports: z.array(z.string()),
      volumes: z.array(z.string()),
      /** Values that look like secrets are masked. */
      environment: z.array(z.strictObject({ name: z.string(), value: z.string(), masked: z.boolean() })),
      labels: z.record(z.string(), z.string()),
      history: z.array(
        z.strictObject({
          created: z.string().nullable(),
          by: z.string().nullable(),
          comment: z.string().nullable(),
          /** The layer that this made; null where it made none. */
          layer: layer.nullable(),
        }),
      ),
      layers: z.array(layer),
    })
    .nullable(),
  /** Whether every layer was read, and is what the config says. */
  deep: z.boolean(),
});
export type ShowResult = z.infer<typeof showResultSchema>;

/** What one image or index is, as a document. */
export function toShowResult(
  shown: Shown,
  { deep, release }: { readonly deep: boolean; readonly release: FoundInProduct | undefined },
): ShowResult {
  const { reference, repository, kind, manifest, size, shared, platforms, referrers, image } = shown;
  return {
    reference,
    repository: repository ?? null,
    kind,
    digest: manifest.digest,
    mediaType: manifest.mediaType,
    size,
    pull: repository === undefined ? null : `${repository}@${manifest.digest}`,
    annotations: Object.fromEntries(manifest.annotations),
    shared,
    platforms: platforms.map(toPlatform),
    referrers: referrers.map(({ signed, ...each }) => ({
      ...each,
      about: each.about ?? null,
      signed:
        signed?.map(({ by, detail, predicateType }) => ({
          by: by ?? null,
          detail,
          predicateType: predicateType ?? null,
        })) ?? null,
    })),
    release: release === undefined ? null : toFound(release, undefined),
    image: image === undefined ? null : toRun(image),
    deep,
  };
}

function toLayer({ digest: found, size, unpacked }: ShownLayer): z.infer<typeof layer> {
  return { digest: found, size, unpacked: unpacked ?? null };
}

function toPlatform(shown: ShownPlatform): ShowResult['platforms'][number] {
  const { unpacked, created, revision, version, base } = shown;
  return {
    ...shown,
    unpacked: unpacked ?? null,
    created: created ?? null,
    revision: revision ?? null,
    version: version ?? null,
    base: base === undefined ? null : { name: base.name ?? null, digest: base.digest ?? null },
  };
}

function toRun(run: ShownRun): ShowResult['image'] {
  return {
    entrypoint: [...run.entrypoint],
    command: [...run.command],
    user: run.user ?? null,
    workingFolder: run.workingFolder ?? null,
    ports: [...run.ports],
    volumes: [...run.volumes],
    environment: [...run.environment],
    labels: Object.fromEntries(run.labels),
    history: run.history.map(({ created, by, comment, layer: made }) => ({
      created: created ?? null,
      by: by ?? null,
      comment: comment ?? null,
      layer: made === undefined ? null : toLayer(made),
    })),
    layers: run.layers.map(toLayer),
  };
}
