import { formatCount } from '../core/amounts';
import { element, scrollingTable } from './dom';

/** A column of a table of things. */
export interface Column<T> {
  readonly title: string;
  /** What is searched for. */
  readonly text: (each: T) => string;
  /** What it is sorted by, where that is not its text. */
  readonly value?: (each: T) => number;
  /** What is shown, where that is not its text. */
  readonly cell?: (each: T) => Node | string;
  /** It is long, and may be broken into lines. */
  readonly long?: true;
}

const pageSize = 50;

/** A table to search, to sort by each column, and to turn the pages of. */
export function searchableTable<T>(id: string, caption: string, all: readonly T[], columns: readonly Column<T>[]) {
  const texts = all.map((each) =>
    columns
      .map(({ text }) => text(each))
      .join('\n')
      .toLowerCase(),
  );
  let found = all.map((_, at) => at);
  let page = 0;
  let sorted: { column: Column<T>; down: boolean } | undefined;

  const search = element('input', { id: `${id}-search`, type: 'search', autocomplete: 'off', spellcheck: 'false' });
  const counted = element('p', { class: 'counted', role: 'status' });
  const body = element('tbody', {});
  const before = element('button', { type: 'button' }, 'Page before');
  const after = element('button', { type: 'button' }, 'Next page');
  const heads = columns.map((column) => {
    const button = element('button', { type: 'button', class: 'sort' }, column.title);
    const head = element('th', { scope: 'col' }, button);
    button.addEventListener('click', () => {
      sorted = { column, down: sorted?.column === column && !sorted.down };
      heads.forEach((each) => each.removeAttribute('aria-sort'));
      head.setAttribute('aria-sort', sorted.down ? 'descending' : 'ascending');
      update();
    });
    return head;
  });

  const inOrder = (one: number, other: number): number => {
    const [a, b] = [all[one], all[other]];
    if (sorted === undefined || a === undefined || b === undefined) {
      return one - other;
    }
    const { text, value } = sorted.column;
    const order = value === undefined ? text(a).localeCompare(text(b), 'en', { numeric: true }) : value(a) - value(b);
    return (sorted.down ? -order : order) || one - other;
  };

  /** Finds, sorts, and begins at the first page. */
  function update(): void {
    const words = search.value
      .toLowerCase()
      .split(/\s+/)
      .filter((word) => word !== '');
    found = texts.flatMap((text, at) => (words.every((word) => text.includes(word)) ? [at] : [])).sort(inOrder);
    page = 0;
    show();
  }

  function show(): void {
    const rows = found.slice(page * pageSize, (page + 1) * pageSize).flatMap((at) => {
      const each = all[at];
      return each === undefined ? [] : [each];
    });
    body.replaceChildren(
      ...rows.map((each) =>
        element(
          'tr',
          {},
          ...columns.map(({ text, cell, long }) => element('td', { class: long && 'long' }, (cell ?? text)(each))),
        ),
      ),
    );
    const pages = Math.max(1, Math.ceil(found.length / pageSize));
    counted.textContent = `${formatCount(found.length, 'row')}, page ${page + 1} of ${pages}`;
    before.disabled = page === 0;
    after.disabled = page >= pages - 1;
  }

  search.addEventListener('input', update);
  before.addEventListener('click', () => {
    page -= 1;
    show();
  });
  after.addEventListener('click', () => {
    page += 1;
    show();
  });
  update();
  return element(
    'div',
    { class: 'searchable', id },
    element('p', { class: 'tools' }, element('label', { for: search.id }, 'Search '), search, before, after),
    counted,
    scrollingTable(undefined, caption, heads, body),
  );
}
