import { once } from 'node:events';
import { setTimeout as delay } from 'node:timers/promises';
import { print } from './streams';

/** Moves to the upper left, and empties the screen; what was above it can be scrolled to still. */
const clear = '\u001b[H\u001b[2J';

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
    const pause = new AbortController();
    const again = delay(interval, 'again', { signal: pause.signal }).catch(() => undefined);
    const next = await Promise.race([again, ended]);
    // Who ended it does not wait for the rest of the pause.
    pause.abort();
    if (next === undefined) {
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
