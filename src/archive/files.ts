/**
 * The files of an image layout, wherever they are kept. Names are relative, with `/` between their
 * parts, and never lead outside.
 */
export interface LayoutFiles {
  /** The folder or the .tar, for messages. */
  readonly label: string;
  /** Bytes of the named file; undefined where there is none. Throws `corrupt` for a link. */
  size(name: string): Promise<number | undefined>;
  /** The bytes of a file that {@link size} found. */
  open(name: string): AsyncIterable<Uint8Array>;
}

/** Bytes read at a time: large enough to keep a connection busy, small enough to hold many at once. */
export const readSize = 256 * 1024;
