import { writeSync } from 'node:fs';

/**
 * Writes all bytes into an open file, which may take a part of them at a time.
 *
 * @throws The error of the system.
 */
export function writeAll(descriptor: number, bytes: Uint8Array): void {
  for (let at = 0; at < bytes.length;) {
    at += progress(writeSync(descriptor, bytes, at));
  }
}

/** How many bytes a write took; none is an error, as nothing says that the next would take any. */
export function progress(taken: number): number {
  if (taken === 0) {
    throw new Error('the disk takes no more bytes');
  }
  return taken;
}
