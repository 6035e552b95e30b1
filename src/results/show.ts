import * as z from 'zod';
import { digest } from './common';

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
  attached: z.array(z.strictObject({ digest, type: z.string(), size: z.number().int(), about: z.string().nullable() })),
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
