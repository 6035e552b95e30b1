import * as z from 'zod';
import { mapOf } from '../json';
import { digestSchema, type Digest } from './digest';
import { platformSchema, type Platform } from './platform';

/** What identifies a piece of content (OCI image specification, descriptor.md). */
export interface Descriptor {
  mediaType: string;
  digest: Digest;
  /** Bytes. */
  size: number;
  platform?: Platform | undefined;
  annotations?: ReadonlyMap<string, string> | undefined;
  artifactType?: string | undefined;
}

/** A descriptor at an edge. */
export const descriptorSchema = z.object({
  mediaType: z.string().min(1),
  digest: digestSchema,
  size: z.number().int().nonnegative(),
  platform: platformSchema.optional(),
  annotations: mapOf(z.string()).optional(),
  artifactType: z.string().optional(),
});
