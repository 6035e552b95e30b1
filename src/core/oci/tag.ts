import * as z from 'zod';

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

/** A tag at an edge. */
export const tagSchema = z.custom<Tag>((value) => typeof value === 'string' && isTag(value), 'must be a tag');
