import { formatCount } from '../../core/amounts';
import { grouped } from '../../core/grouped';
import type { StatusResult } from '../../results/status';
import { hasDrifted, releaseKey, releaseName } from '../../results/status-rows';
import type { Screen } from '../answer';
import { nameFew } from './components';
import { columns } from './format';
import { driftMark, noticeLines } from './status';
import type { Style } from './style';

type Environment = StatusResult['environments'][number];

/** So many notices of products follow the table. */
const noticesOf = 12;

/** What the environments of several products serve: products down, environments across; what is wrong comes first, then what waits. */
export function statusesView(results: readonly StatusResult[], screen: Screen, now: Date): string {
  const { style, verbose } = screen;
  const names = [...new Set(results.flatMap(({ environments }) => environments.map(({ environment }) => environment)))];
  const ordered = [...results].sort((a, b) => weightOf(a) - weightOf(b));
  const rows = ordered.map(({ product, environments }) => [
    product,
    ...names.map((name) => {
      const environment = environments.find((each) => each.environment === name);
      return environment === undefined ? '' : cellOf(environment, style);
    }),
  ]);
  const notices = ordered.map((result) => ({ product: result.product, lines: noticeLines(result, screen, now) }));
  // What is the same of several products is said once.
  const told = grouped(
    notices.filter(({ lines }) => lines.length > 0),
    ({ lines }) => lines,
  );
  const shown = verbose ? told : told.slice(0, noticesOf);
  return [
    summaryOf(results, style),
    '',
    ...columns([['product', ...names], ...rows], '', (cell, column, row) =>
      row === 0 ? style.faint(cell) : column === 0 ? style.strong(cell) : cell,
    ),
    ...shown.flatMap((group) => [
      '',
      style.strong(
        nameFew(
          group.map(({ product }) => product),
          'product',
        ),
      ),
      ...group[0].lines.map((line) => `  ${line}`),
    ]),
    ...(told.length > shown.length
      ? [
          '',
          style.faint(
            `and notices of ${formatCount(told.slice(shown.length).flat().length, 'more product')} (--verbose)`,
          ),
        ]
      : []),
  ].join('\n');
}

/** Whether anything is wrong, and how much waits, in one line. */
function summaryOf(results: readonly StatusResult[], style: Style): string {
  const count = (is: (result: StatusResult) => boolean): number => results.filter(is).length;
  const [drifted, silent, waiting] = [count(isDrifted), count(isSilent), count(isWaiting)];
  return [
    formatCount(results.length, 'product'),
    drifted === 0 ? style.good('no drift') : style.bad(`${drifted} with drift`),
    ...(silent === 0 ? [] : [style.notice(`${silent} with a registry that does not answer`)]),
    waiting === 0 ? 'nothing waits' : `${waiting} with releases that wait`,
  ].join(', ');
}

/** What an environment serves of a product: the releases, that of the most components first, and what is wrong with them. */
function cellOf(environment: Environment, style: Style): string {
  const releases = grouped(environment.components, releaseKey).sort((a, b) => b.length - a.length);
  const [first, ...others] = releases;
  if (first === undefined) {
    return style.faint('–');
  }
  const marks = environment.components.map((each) => driftMark(each, environment, style));
  const more = others.length === 0 ? '' : style.faint(` +${others.length}`);
  return `${releaseName(first[0])}${more}${marks.find((mark) => mark !== '') ?? ''}`;
}

function weightOf(result: StatusResult): number {
  return isDrifted(result) ? 0 : isSilent(result) ? 1 : isWaiting(result) ? 2 : 3;
}

function isDrifted({ environments }: StatusResult): boolean {
  return environments.some(({ components }) => components.some((each) => [each, ...each.lines].some(hasDrifted)));
}

function isSilent({ environments }: StatusResult): boolean {
  return environments.some(({ silent }) => silent !== null);
}

function isWaiting({ environments }: StatusResult): boolean {
  return environments.some(({ waiting }) => waiting !== null && waiting.components.length + waiting.lines.length > 0);
}
