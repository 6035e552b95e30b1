import { HodError } from '../../core/errors';
import type { Style } from './style';

/** An error as people read it: what happened, to what, why, and what to do next. */
export function errorView({ problem }: HodError, style: Style): string {
  const line = (label: string, text: string | undefined): string[] => {
    if (text === undefined) {
      return [];
    }
    const [first = '', ...others] = text.split('\n');
    return [`  ${style.faint(label.padEnd(6))} ${first}`, ...others.map((other) => `         ${other}`)];
  };
  return [
    `${style.bad('hod:')} ${style.strong(problem.what)}`,
    ...line('object', problem.object),
    ...line('why', problem.why),
    ...line('next', problem.next),
  ].join('\n');
}

/** What is said of an error that nobody foresaw. The one place where a stack is shown. */
export function defectOf(error: unknown): HodError {
  const stack = error instanceof Error ? (error.stack ?? error.message) : String(error);
  return new HodError('defect', {
    what: 'this is a defect in Hod',
    why: stack,
    next: 'report it with this text and the command line; the command can be run again safely',
  });
}
