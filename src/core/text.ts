/** One line of text, or several. A line that holds a newline is still one line: it is shown escaped. */
export type Text = string | readonly string[];

/** The lines of a text. */
export function linesOf(text: Text): readonly string[] {
  return typeof text === 'string' ? [text] : text;
}

/** The lines of a text below each other, for documents. */
export function joinLines(text: Text): string {
  return linesOf(text).join('\n');
}

/** The lines of a text behind each other, to stand within another line. */
export function asOneLine(text: Text): string {
  return linesOf(text).join('; ');
}

/**
 * Characters that act instead of being seen: controls (C0, C1), those that turn the direction of
 * writing (Unicode Standard Annex 9), that have no width, that break lines, and halves of pairs.
 */
const acting =
  /[\u0000-\u001f\u007f-\u009f\u00ad\u061c\u180e\u200b-\u200f\u2028-\u202e\u2060-\u206f\ufeff\ufff9-\ufffb]|[\ud800-\udbff](?![\udc00-\udfff])|(?<![\ud800-\udbff])[\udc00-\udfff]/g;

/** A text as it may be shown in a terminal: what would act on it is shown as `\x1b`, `\n` or `\u202e`. */
export function visible(text: string): string {
  return text.replace(acting, (character) => {
    const code = character.charCodeAt(0);
    const short = shortEscapes.get(code);
    return short ?? (code < 0x100 ? `\\x${hex(code, 2)}` : `\\u${hex(code, 4)}`);
  });
}

const shortEscapes: ReadonlyMap<number, string> = new Map([
  [0x08, '\\b'],
  [0x09, '\\t'],
  [0x0a, '\\n'],
  [0x0d, '\\r'],
]);

function hex(code: number, digits: number): string {
  return code.toString(16).padStart(digits, '0');
}

/** A character without width: what is written with it is neither a name that is called nor a link. */
const joiner = '\u2060';

/** A text from outside as one line in which nobody is called by an `@`, and no link is made. */
export function inert(text: string): string {
  return visible(text)
    .replace(/@/g, `@${joiner}`)
    .replace(/:\/\//g, `:${joiner}//`)
    .replace(/\bwww\./gi, (found) => `${found.slice(0, -1)}${joiner}.`);
}

/** A copy of a document with every text in it, and every key, as it may be shown in a terminal. */
export function visibleValues<T>(document: T): T {
  const copy = structuredClone(document);
  makeVisible(copy);
  return copy;
}

function makeVisible(holder: unknown): void {
  if (typeof holder !== 'object' || holder === null) {
    return;
  }
  for (const [key, value] of Object.entries(holder) as [string, unknown][]) {
    makeVisible(value);
    const shown = visible(key);
    if (shown !== key) {
      Reflect.deleteProperty(holder, key);
    }
    if (shown !== key || typeof value === 'string') {
      const safe = typeof value === 'string' ? visible(value) : value;
      Object.defineProperty(holder, shown, { value: safe, writable: true, enumerable: true, configurable: true });
    }
  }
}

/** A JSON text of one line in which nothing acts on a terminal that it is read in (RFC 8259 §7 lets any character be escaped). */
export function toJsonLine(document: unknown): string {
  return JSON.stringify(document).replace(acting, (character) => `\\u${hex(character.charCodeAt(0), 4)}`);
}
