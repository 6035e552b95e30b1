import { HodError, messageOf } from '../core/errors';

/** The error for a file that was named and cannot be read or written; any error of ours is passed on as it is. */
export function fileUnusable(file: string, error: unknown, next = 'name another file'): HodError {
  return error instanceof HodError
    ? error
    : new HodError(
        'file-unusable',
        { what: 'this file cannot be used', object: file, why: messageOf(error), next },
        { cause: error },
      );
}
