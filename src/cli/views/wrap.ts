import stringWidth from 'string-width';
import wrapAnsi from 'wrap-ansi';

/** What the lines of tables begin with, in Markdown too: they are made for their room. */
const frames = /^[┌├└│|#]/;
/** What a line begins with: colours, and how far in it is. */
const beginning = /^((?:\u001b\[\d+m)*)( *)/;
/** How much further in a line goes on. */
const further = 4;

/** A text whose lines go on in the next one, further in, where they are wider than there is room. What has no spaces stays whole. */
export function wrapped(text: string, width: number): string {
  return text
    .split('\n')
    .flatMap((line) => {
      if (frames.test(line) || stringWidth(line) <= width) {
        return [line];
      }
      const [begin = '', codes = '', spaces = ''] = beginning.exec(line) ?? [];
      const indent = spaces.length;
      const room = Math.max(20, width - indent - further);
      const [first = '', ...others] = wrapAnsi(codes + line.slice(begin.length), room, { hard: false }).split('\n');
      return [' '.repeat(indent) + first, ...others.map((other) => ' '.repeat(indent + further) + other)];
    })
    .join('\n');
}
