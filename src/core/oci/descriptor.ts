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
  /** Other places of the content. Hod takes it from none of them. */
  urls?: string[] | undefined;
}

/** A media type (RFC 6838 §4.2). */
export const mediaTypeSchema = z
  .string()
  .regex(
    /^[A-Za-z0-9][A-Za-z0-9!#$&^_.+-]{0,126}\/[A-Za-z0-9][A-Za-z0-9!#$&^_.+-]{0,126}$/,
    'must be a media type, type/subtype',
  );

/** A descriptor at an edge. */
export const descriptorSchema = z.object({
  mediaType: mediaTypeSchema,
  digest: digestSchema,
  size: z.number().int().nonnegative(),
  platform: platformSchema.optional(),
  annotations: mapOf(z.string()).optional(),
  artifactType: mediaTypeSchema.optional(),
  urls: z.array(z.string().refine((text) => URL.canParse(text), 'must be a URI')).optional(),
});
