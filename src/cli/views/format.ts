import stringWidth from 'string-width';

/** Lines with columns of equal width; the last column is not padded. */
export function columns(
  rows: readonly (readonly string[])[],
  indent: string,
  paint: (cell: string, column: number, row: number) => string,
): string[] {
  const widths: number[] = [];
  for (const row of rows) {
    row.forEach((cell, column) => (widths[column] = Math.max(widths[column] ?? 0, stringWidth(cell))));
  }
  return rows.map((row, at) => {
    const last = row.findLastIndex((cell) => cell !== '');
    const cells = row.slice(0, last + 1).flatMap((cell, column) => {
      const padding = ' '.repeat((widths[column] ?? 0) - stringWidth(cell));
      // A column in which nothing stands takes no room.
      return widths[column] === 0 ? [] : [paint(cell, column, at) + (column === last ? '' : padding)];
    });
    return `${indent}${cells.join('  ')}`.trimEnd();
  });
}

/** A table with lines around its cells, which may have several lines; the first row is its head. Rows of one line need no rule between them. */
export function table(rows: readonly (readonly string[])[]): string {
  const cells = rows.map((row) => row.map((cell) => cell.split('\n')));
  const widths = (rows[0] ?? []).map((_, column) =>
    Math.max(...cells.flatMap((row) => (row[column] ?? []).map((line) => stringWidth(line)))),
  );
  const rule = (left: string, cross: string, right: string): string =>
    left + widths.map((width) => '─'.repeat(width + 2)).join(cross) + right;
  const lines = cells.map((row) =>
    Array.from({ length: Math.max(...row.map((cell) => cell.length)) }, (_, at) => {
      const padded = widths.map((width, column) => {
        const line = row[column]?.[at] ?? '';
        return ` ${line}${' '.repeat(width - stringWidth(line))} `;
      });
      return `│${padded.join('│')}│`;
    }).join('\n'),
  );
  const between = rule('├', '┼', '┤');
  const [head = '', ...others] = lines;
  const isFlat = others.every((line) => !line.includes('\n'));
  const body = [head, others.join(isFlat ? '\n' : `\n${between}\n`)]
    .filter((part) => part !== '')
    .join(`\n${between}\n`);
  return [rule('┌', '┬', '┐'), body, rule('└', '┴', '┘')].join('\n');
}
