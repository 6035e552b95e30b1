/** Where in a document something is. */
export type Path = readonly PropertyKey[];

/** Something wrong at one place of the document. */
export interface ConfigFinding {
  path: Path;
  /** The finding is about the key there, not about its value. */
  atKey?: boolean;
  text: string;
  /** The path, as text, of the key that a misspelt one means. */
  means?: string | undefined;
  /** The path, as text, of a key that is missing. */
  lacks?: string;
}
