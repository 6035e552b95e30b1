import { once } from 'node:events';
import { setTimeout as delay } from 'node:timers/promises';
import { print } from './streams';

/** Moves to the upper left, and forgets everything on the screen. */
const clear = '\u001b[H\u001b[2J\u001b[3J';

/**
 * Shows a text again and again until Ctrl-C: in place on a terminal, elsewhere each time that it changed.
 *
 * @param interval Milliseconds between.
 */
export async function showAgain(draw: () => Promise<string>, interval: number): Promise<void> {
  const ended = Promise.race([once(process, 'SIGINT'), once(process, 'SIGTERM')]).then(() => undefined);
  let last = '';
  for (;;) {
    const text = await Promise.race([draw(), ended]);
    if (text === undefined) {
      return;
    }
    if (process.stdout.isTTY) {
      const footer = `${new Date().toTimeString().slice(0, 8)}, again every ${interval / 1000} s; Ctrl-C ends it`;
      await print(`${clear}${fitting(text, process.stdout.rows - 2)}\n${footer}`);
    } else if (text !== last) {
      await print(text);
    }
    last = text;
    if ((await Promise.race([delay(interval, 'again'), ended])) === undefined) {
      return;
    }
  }
}

/** The first lines of a text, where it has more than there is room for, and how many there are beside. */
function fitting(text: string, rows: number): string {
  const lines = text.split('\n');
  return lines.length <= rows || rows < 2
    ? text
    : [...lines.slice(0, rows - 1), `and ${lines.length - rows + 1} lines more: make the window higher`].join('\n');
}
