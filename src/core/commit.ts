import * as z from 'zod';

declare const commitBrand: unique symbol;

/** A full commit id of git: 40 or 64 lower-case hexadecimal digits. */
export type CommitId = string & { readonly [commitBrand]: true };

/** Whether a text is a full commit id. */
export function isCommitId(text: string): text is CommitId {
  return /^(?:[0-9a-f]{40}|[0-9a-f]{64})$/.test(text);
}

/** A commit id at an edge. */
export const commitSchema = z.custom<CommitId>(
  (value) => typeof value === 'string' && isCommitId(value),
  'must be a full commit id',
);

/** The beginning of a commit id: enough for a person to tell commits apart. */
export function shortCommit(commit: string): string {
  return commit.slice(0, 12);
}
