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

/** Commits and digests stand in the tables by their first twelve digits: of longer ones, these are looked for. */
function searchedFor(word: string): string {
  const [, digits] = /(?:^|:)([a-f0-9]{12})[a-f0-9]*$/.exec(word) ?? [];
  return digits ?? word;
}

/** What a table shows of each thing. */
interface Shown<T> {
  readonly columns: readonly Column<T>[];
  /** All that is known of a thing, below its row where the reader opens it; undefined where that is no more. */
  readonly details?: (each: T) => (() => Node) | undefined;
}

/** A table to search, to sort by each column, and to turn the pages of. */
export function searchableTable<T>(id: string, caption: string, all: readonly T[], shown: Shown<T>) {
  return new SearchableTable(id, caption, all, shown).element;
}

class SearchableTable<T> {
  readonly element: HTMLElement;
  private readonly texts: readonly string[];
  private found: readonly number[];
  private page = 0;
  private sorted: { readonly column: Column<T>; readonly down: boolean } | undefined;
  private readonly search: HTMLInputElement;
  private readonly counted = element('p', { class: 'counted', role: 'status' });
  private readonly body = element('tbody', {});
  private readonly before = this.turning('Page before', -1);
  private readonly after = this.turning('Next page', 1);

  constructor(
    id: string,
    caption: string,
    private readonly all: readonly T[],
    private readonly shown: Shown<T>,
  ) {
    const { columns } = shown;
    const textOf = (each: T): string => columns.map(({ text }) => text(each)).join('\n');
    this.texts = all.map((each) => textOf(each).toLowerCase());
    this.found = all.map((_, at) => at);
    this.search = element('input', { id: `${id}-search`, type: 'search', autocomplete: 'off', spellcheck: 'false' });
    this.search.addEventListener('input', () => this.update());
    const label = element('label', { for: this.search.id }, 'Search ');
    this.element = element(
      'div',
      { class: 'searchable', id },
      element('p', { class: 'tools' }, label, this.search, this.before, this.after),
      this.counted,
      scrollingTable(undefined, caption, this.heads(), this.body),
    );
    this.update();
  }

  private turning(title: string, pages: number) {
    const button = element('button', { type: 'button' }, title);
    button.addEventListener('click', () => {
      this.page += pages;
      this.show();
    });
    return button;
  }

  private heads() {
    const heads = this.shown.columns.map((column) => {
      const button = element('button', { type: 'button', class: 'sort' }, column.title);
      const head = element('th', { scope: 'col' }, button);
      button.addEventListener('click', () => {
        const down = this.sorted?.column === column && !this.sorted.down;
        this.sorted = { column, down };
        heads.forEach((each) => each.removeAttribute('aria-sort'));
        head.setAttribute('aria-sort', down ? 'descending' : 'ascending');
        this.update();
      });
      return head;
    });
    return heads;
  }

  private inOrder(one: number, other: number): number {
    const [a, b] = [this.all[one], this.all[other]];
    if (this.sorted === undefined || a === undefined || b === undefined) {
      return one - other;
    }
    const { text, value } = this.sorted.column;
    const order = value === undefined ? text(a).localeCompare(text(b), 'en', { numeric: true }) : value(a) - value(b);
    return (this.sorted.down ? -order : order) || one - other;
  }

  /** Finds, sorts, and begins at the first page. */
  private update(): void {
    const words = this.search.value
      .toLowerCase()
      .split(/\s+/)
      .filter((word) => word !== '')
      .map(searchedFor);
    this.found = this.texts
      .flatMap((text, at) => (words.every((word) => text.includes(word)) ? [at] : []))
      .sort((one, other) => this.inOrder(one, other));
    this.page = 0;
    this.show();
  }

  private row(each: T): HTMLElement {
    const { columns, details } = this.shown;
    const shown = details?.(each);
    const cells = columns.map(({ text, cell, long }) => element('td', { class: long && 'long' }, (cell ?? text)(each)));
    const row = element('tr', {}, ...cells);
    const [first] = cells;
    if (shown !== undefined && first !== undefined) {
      const button = element(
        'button',
        { type: 'button', class: 'open', 'aria-expanded': 'false' },
        ...first.childNodes,
      );
      let below: HTMLElement | undefined;
      button.addEventListener('click', () => {
        below ??= element('tr', {}, element('td', { class: 'details', colspan: `${columns.length}` }, shown()));
        const isOpen = below.isConnected;
        button.setAttribute('aria-expanded', isOpen ? 'false' : 'true');
        if (isOpen) {
          below.remove();
        } else {
          row.after(below);
        }
      });
      first.replaceChildren(button);
    }
    return row;
  }

  private show(): void {
    const rows = this.found.slice(this.page * pageSize, (this.page + 1) * pageSize).flatMap((at) => {
      const each = this.all[at];
      return each === undefined ? [] : [each];
    });
    this.body.replaceChildren(...rows.map((each) => this.row(each)));
    const pages = Math.max(1, Math.ceil(this.found.length / pageSize));
    this.counted.textContent = `${formatCount(this.found.length, 'row')}, page ${this.page + 1} of ${pages}`;
    this.before.disabled = this.page === 0;
    this.after.disabled = this.page >= pages - 1;
  }
}
