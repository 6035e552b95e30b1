import * as z from 'zod';
import { HodError } from '../../core/errors';
import { linesOf, visible, type Text } from '../../core/text';
import type { Style } from './style';

/** An error as people read it: what happened, to what, why, and what to do next. */
export function errorView({ problem }: HodError, style: Style): string {
  const lines = (label: string, text: Text | undefined): string[] => {
    if (text === undefined) {
      return [];
    }
    const [first = '', ...others] = linesOf(text).map(visible);
    return [`  ${style.faint(label.padEnd(6))} ${first}`, ...others.map((other) => `         ${other}`)];
  };
  return [
    `${style.bad('hod:')} ${style.strong(visible(problem.what))}`,
    ...lines('object', problem.object),
    ...lines('why', problem.why),
    ...lines('next', problem.next),
  ].join('\n');
}

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
        what: 'the system refused something that is needed',
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
