import * as z from 'zod';
import { HodError } from '../errors';
import { issuesToText, mapOf, parseJson } from '../json';
import { platformSchema, type Platform } from './platform';

/** What Hod reads from the config of an image (OCI image specification, config.md). */
export interface ImageConfig {
  platform: Platform;
  labels: ReadonlyMap<string, string>;
  /** When it says that it was made (RFC 3339). */
  created: string | undefined;
}

const schema = platformSchema.extend({
  created: z.string().optional().catch(undefined),
  config: z.object({ Labels: mapOf(z.string()).nullish() }).nullish(),
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
  const { config, created, ...platform } = parsed.data;
  return { platform, labels: config?.Labels ?? new Map(), created };
}
