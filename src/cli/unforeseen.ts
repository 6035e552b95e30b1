import * as z from 'zod';
import { HodError } from '../core/errors';

const systemError = z.object({
  code: z.string(),
  syscall: z.string(),
  path: z.string().optional(),
  message: z.string(),
});

/**
 * What is said of an error that nobody foresaw. What the operating system refuses is no mistake of
 * ours; for all else, this is the one place where a stack is shown.
 */
export function unforeseen(error: unknown): HodError {
  const refused = systemError.safeParse(error).data;
  if (refused !== undefined) {
    return new HodError(
      'system-refused',
      {
        what: 'the system refused an operation',
        object: refused.path ?? refused.syscall,
        why: refused.message,
        next: 'correct this and run the command again; it goes on from here',
      },
      { cause: error },
    );
  }
  const stack = error instanceof Error ? (error.stack ?? error.message) : String(error);
  return new HodError('defect', {
    what: 'this is a defect in Hod',
    why: stack.split('\n'),
    next: 'report it with this text and the command line; the command can be run again safely',
  });
}
