import type { NextStep } from '../../results/common';
import { columns } from './format';
import type { Style } from './style';

/** What to run now; nothing where there is nothing. */
export function nextLines(steps: readonly NextStep[], style: Style): string[] {
  const rows = steps.map(({ command, does }) => [command, does]);
  return rows.length === 0
    ? []
    : ['Next:', ...columns(rows, '  ', (cell, column) => (column === 0 ? style.strong(cell) : style.faint(cell)))];
}
