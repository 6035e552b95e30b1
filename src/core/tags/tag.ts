import { HodError } from '../errors';

declare const tagBrand: unique symbol;

/** A name for a manifest within a repository, known to be well formed. */
export type Tag = string & { readonly [tagBrand]: true };

/** The longest tag (OCI distribution specification, "Pulling manifests"). */
export const tagLengthLimit = 128;

const grammar = /^[a-zA-Z0-9_][a-zA-Z0-9._-]{0,127}$/;

/** Whether `text` is a tag (OCI distribution specification, "Pulling manifests"). */
export function isTag(text: string): text is Tag {
  return grammar.test(text);
}

/** Reads a tag. Throws a `usage` error if `text` is not one. */
export function parseTag(text: string): Tag {
  if (isTag(text)) {
    return text;
  }
  throw new HodError('usage', {
    what: 'this is not a tag',
    object: text,
    why: `a tag begins with a letter, a digit or _, and goes on with up to ${tagLengthLimit - 1} of these, . and -`,
  });
}
