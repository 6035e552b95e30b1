/** What an element can be made of: text is shown as it is, never read as markup. */
type Child = Node | string | undefined;

/** Makes an element. `attributes`: those that are undefined are left out. */
export function element<K extends keyof HTMLElementTagNameMap>(
  name: K,
  attributes: Readonly<Record<string, string | undefined>>,
  ...children: readonly Child[]
): HTMLElementTagNameMap[K] {
  const made = document.createElement(name);
  for (const [key, value] of Object.entries(attributes)) {
    if (value !== undefined) {
      made.setAttribute(key, value);
    }
  }
  made.append(...children.filter((each) => each !== undefined));
  return made;
}

/** A section with its heading. */
export function section(id: string, title: string, ...children: readonly Child[]): HTMLElement {
  const heading = element('h2', { id: `${id}-title` }, title);
  return element('section', { id, 'aria-labelledby': heading.id }, heading, ...children);
}

/** A table that scrolls by itself where it is wider than its room. */
export function scrollingTable(
  id: string | undefined,
  caption: string,
  heads: readonly Child[],
  body: HTMLElement,
): HTMLElement {
  return element(
    'div',
    { class: 'scrolling', tabindex: '0', role: 'region', 'aria-label': `${caption} (table)` },
    element('table', { id }, element('caption', {}, caption), element('thead', {}, element('tr', {}, ...heads)), body),
  );
}

/** A time to the minute, UTC, and in full for programs. */
export function time(at: string): HTMLTimeElement {
  return element('time', { datetime: at }, minuteOf(at));
}

/** `2026-11-26 21:24`. */
export function minuteOf(at: string): string {
  return at.slice(0, 16).replace('T', ' ');
}
