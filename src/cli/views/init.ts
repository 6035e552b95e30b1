import type { InitResult } from '../../results/init';
import type { Screen } from '../answer';
import { columns } from './format';
import { nextLines } from './next';

/** What `init` answers to people. */
export function initView(result: InitResult, { style }: Screen): string {
  const { file, product, images, environments, ledger, ciFound, registry, next, dryRun } = result;
  const rows = images.map(({ name, from, platforms }) => [name, from.join(' + '), platforms.join(' ')]);
  const found =
    rows.length === 0
      ? [style.notice('No build output was found: correct `from:` in it to where your builder writes.')]
      : columns(rows, '  ', (cell, column) =>
          column === 0 ? style.strong(cell) : column === 2 ? style.faint(cell) : cell,
        );
  const place = registry ?? 'the stand-in registry of this machine, until you put yours in';
  return [
    `${dryRun ? 'Would write' : style.good('Wrote')} ${file}: ${style.strong(product)}, ${environments.join(' → ')}`,
    '',
    ...found,
    `  ${style.faint(`releases go to ${place}; the ledger is ${ledger}`)}`,
    ...(ciFound ? [`  ${style.faint('steps for any CI: docs/pipelines.md')}`] : []),
    ...(dryRun ? ['', ...result.lines.map((line) => `  ${line}`)] : []),
    '',
    ...nextLines(next, style),
  ].join('\n');
}
