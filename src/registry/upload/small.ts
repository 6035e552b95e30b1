import type { Descriptor } from '../../core/oci/descriptor';

/** Blobs of so many bytes stay in memory: they go up in one request, and are sent again where it breaks. */
export const smallSize = 1024 * 1024;

/** Whether a blob is small enough to stay in memory. */
export function isSmall({ size }: Pick<Descriptor, 'size'>): boolean {
  return size <= smallSize;
}
