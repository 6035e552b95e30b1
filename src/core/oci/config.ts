import * as z from 'zod';
import { HodError } from '../errors';
import { issuesToText, mapOf, parseJson } from '../json';
import { digestSchema, type Digest } from './digest';
import { platformSchema, type Platform } from './platform';

/** What Hod reads from the config of an image (OCI image specification, config.md). */
export interface ImageConfig {
  readonly platform: Platform;
  readonly labels: ReadonlyMap<string, string>;
  /** When it says that it was made (RFC 3339). */
  readonly created: string | undefined;
  /** The digest of each layer as it is unpacked. */
  readonly diffIds: readonly Digest[];
  readonly runs: Runs;
  readonly history: readonly HistoryEntry[];
}

/** How an image is run. */
export interface Runs {
  readonly entrypoint: readonly string[];
  readonly command: readonly string[];
  readonly user: string | undefined;
  readonly workingFolder: string | undefined;
  readonly ports: readonly string[];
  readonly volumes: readonly string[];
  /** `NAME=value`. */
  readonly environment: readonly string[];
}

/** How a layer was made, or something else was said of the image. */
export interface HistoryEntry {
  readonly created: string | undefined;
  readonly by: string | undefined;
  readonly comment: string | undefined;
  /** It made no layer. */
  readonly empty: boolean;
}

const texts = z.array(z.string()).nullish();

const schema = platformSchema.extend({
  created: z.string().nullish().catch(undefined),
  config: z
    .object({
      Labels: mapOf(z.string()).nullish(),
      Entrypoint: texts,
      Cmd: texts,
      User: z.string().nullish(),
      WorkingDir: z.string().nullish(),
      ExposedPorts: mapOf(z.unknown()).nullish(),
      Volumes: mapOf(z.unknown()).nullish(),
      Env: z.array(z.string().regex(/^[^=]+=/, 'must be NAME=value')).nullish(),
    })
    .nullish(),
  rootfs: z.object({ diff_ids: z.array(digestSchema).nullish() }).nullish(),
  history: z
    .array(
      z.object({
        created: z.string().nullish(),
        created_by: z.string().nullish(),
        comment: z.string().nullish(),
        empty_layer: z.boolean().nullish(),
      }),
    )
    .nullish(),
});

/** Parses the config of an image. Throws a `corrupt` error, naming `label`, if it is not one. */
export function parseConfig(bytes: Uint8Array, label: string): ImageConfig {
  const parsed = schema.safeParse(parseJson(bytes) ?? null);
  if (!parsed.success) {
    throw new HodError('image-config-corrupt', {
      what: 'this image config cannot be read',
      object: label,
      why: issuesToText(parsed.error),
      next: 'build the image again; nothing was tagged',
    });
  }
  const { config, created, rootfs, history, ...platform } = parsed.data;
  return {
    platform,
    labels: config?.Labels ?? new Map(),
    created: created ?? undefined,
    diffIds: rootfs?.diff_ids ?? [],
    runs: {
      entrypoint: config?.Entrypoint ?? [],
      command: config?.Cmd ?? [],
      user: config?.User || undefined,
      workingFolder: config?.WorkingDir || undefined,
      ports: [...(config?.ExposedPorts?.keys() ?? [])],
      volumes: [...(config?.Volumes?.keys() ?? [])],
      environment: config?.Env ?? [],
    },
    history: (history ?? []).map((entry) => ({
      created: entry.created ?? undefined,
      by: entry.created_by ?? undefined,
      comment: entry.comment ?? undefined,
      empty: entry.empty_layer === true,
    })),
  };
}
