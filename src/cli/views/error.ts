import type { HodError } from '../../core/errors';
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
    ...(problem.release === undefined
      ? []
      : [`         ${style.faint(`(the digest belongs to ${visible(problem.release)})`)}`]),
    ...lines('why', problem.why),
    ...lines('next', problem.next),
  ].join('\n');
}
