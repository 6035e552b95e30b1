import { formatCount } from '../../core/amounts';
import type { PointResult } from '../../results/point';
import type { Screen } from '../answer';
import { nameFew } from './components';

/** What was pointed, file by file, as a diff. */
export function pointView({ products, environment, check, files }: PointResult, { style, verbose }: Screen): string {
  const changed = files.filter(({ changes }) => changes.length > 0);
  const left = files.flatMap(({ file, left: own }) => own.map((each) => ({ file, ...each })));
  const unclear = files.flatMap(({ file, unclear: own }) => own.map((each) => ({ file, ...each })));
  const retired = files.flatMap(({ file, retired: own }) => own.map((each) => ({ file, ...each })));
  const others = files.reduce((sum, file) => sum + file.others, 0);
  const count = changed.reduce((sum, { changes }) => sum + changes.length, 0);
  const right = files.reduce((sum, file) => sum + file.right, 0);
  const where = style.strong(environment);
  const product = nameFew(products, 'product');
  const title =
    count === 0 && left.length + unclear.length > 0
      ? `${style.bad('Unclear:')} ${formatCount(left.length + unclear.length, 'reference')} cannot be checked against what ${where} serves of ${product}`
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
          ...before.split('\n').map((text) => style.bad(`  - ${text.trim()}`)),
          ...after.split('\n').map((text) => style.good(`  + ${text.trim()}`)),
        ]),
      ].join('\n'),
    );
  const hint = check && count > 0 ? [style.faint(`\`hod point ${environment} FILE…\` writes this.`)] : [];
  const told = [
    ...left.map((each) => [style.bad('cannot be pointed'), each] as const),
    ...unclear.map((each) => [style.bad('not understood'), each] as const),
    ...retired.map((each) => [style.notice('retired'), each] as const),
  ].map(([what, { file, line, object, why }]) => `${what}  ${file}:${line} ${object}\n  ${style.faint(why)}`);
  const aside = others === 0 ? [] : [style.faint(`${formatCount(others, 'image')} of others left alone`)];
  return [title, ...blocks, ...told, ...aside, ...hint].join('\n\n');
}
