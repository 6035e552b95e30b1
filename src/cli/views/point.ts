import { formatCount } from '../../core/amounts';
import type { PointResult } from '../../results/point';
import type { Screen } from '../answer';

/** What was pointed, file by file, as a diff. */
export function pointView({ product, environment, check, files }: PointResult, { style, verbose }: Screen): string {
  const changed = files.filter(({ changes }) => changes.length > 0);
  const left = files.flatMap(({ file, left: own }) => own.map((each) => ({ file, ...each })));
  const count = changed.reduce((sum, { changes }) => sum + changes.length, 0);
  const right = files.reduce((sum, file) => sum + file.right, 0);
  const where = style.strong(environment);
  const title =
    count === 0 && left.length > 0
      ? `${style.bad('Unclear:')} ${formatCount(left.length, 'reference')} cannot be checked against what ${where} serves of ${product}`
      : count === 0
        ? `${style.good('Up to date:')} ${formatCount(right, 'reference')} in ${formatCount(files.length, 'file')} ${right === 1 ? 'leads' : 'lead'} to what ${where} serves of ${product}`
        : check
          ? `${style.bad('Stale:')} ${formatCount(count, 'reference')} in ${formatCount(changed.length, 'file')}: not what ${where} serves of ${product}`
          : `Pointed ${formatCount(count, 'reference')} in ${formatCount(changed.length, 'file')} at what ${where} serves of ${product}`;
  const blocks = files
    .filter(({ changes }) => changes.length > 0 || verbose)
    .map(({ file, changes, right: own }) =>
      [
        `${style.strong(file)}${changes.length === 0 ? `  ${style.faint(`${own} up to date`)}` : ''}`,
        ...changes.flatMap(({ line, reason, before, after }) => [
          style.faint(`  line ${line}${reason === 'other-environment' ? ': in another environment' : ''}`),
          style.bad(`  - ${before.trim()}`),
          style.good(`  + ${after.trim()}`),
        ]),
      ].join('\n'),
    );
  const hint = check && count > 0 ? [style.faint(`\`hod point ${environment} FILE…\` writes this.`)] : [];
  const unclear = left.map(
    ({ file, line, object, why }) =>
      `${style.bad('cannot be pointed')}  ${file}:${line} ${object}\n  ${style.faint(why)}`,
  );
  return [title, ...blocks, ...unclear, ...hint].join('\n\n');
}
