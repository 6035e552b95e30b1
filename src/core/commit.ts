import * as z from 'zod';
import { HodError } from './errors';

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

/** The error for a text that no commit is known by. `gap`: why git here does not tell. */
export function notACommit(text: string, gap: string | undefined): HodError {
  return new HodError('not-a-commit', {
    what: 'this is not a commit',
    object: text,
    why: `git does not know it here${gap === undefined ? '' : ` (${gap})`}, and it is not a full commit id`,
    next: 'give the full id: 40 or 64 lower-case hexadecimal digits',
  });
}
