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
