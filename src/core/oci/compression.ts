/** How plain layers of an image archive are to be published: compressed, as nodes pull what is pushed, or as they are. */
export const compressions = ['gzip', 'none'] as const;
/** See {@link compressions}. */
export type Compression = (typeof compressions)[number];
