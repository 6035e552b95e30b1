import stringWidth from 'string-width';
import type { Digest } from '../core/oci/digest';
import { progressLine, type Progress } from './progress';
import type { Style } from './views/style';

/** How often lines are drawn anew at most, in milliseconds. */
const drawnEvery = 125;
/** How many columns a bar has. */
const barWidth = 24;

interface Line {
  readonly label: string;
  readonly size: number;
  done: number;
}

/** What live lines are drawn on: a terminal. */
export interface Terminal {
  readonly columns: number;
  readonly rows: number;
  write(text: string): void;
}

/** Live lines on a terminal: one for all, and one for each running transfer. They are gone once they are stopped. */
export class LiveLines {
  private readonly lines = new Map<Digest, Line>();
  private total = '';
  private drawn = 0;
  private drawing: NodeJS.Timeout | undefined;

  constructor(
    private readonly terminal: Terminal,
    private readonly style: Style,
  ) {}

  begin(digest: Digest, repository: string, size: number): void {
    this.lines.set(digest, { label: `${digest.slice(7, 19)} to ${repository}`, size: Math.max(1, size), done: 0 });
    this.drawSoon();
  }

  sent(digest: Digest, bytes: number, progress: Progress): void {
    const line = this.lines.get(digest);
    if (line !== undefined) {
      line.done = Math.min(line.size, line.done + bytes);
    }
    this.total = progressLine(progress, performance.now());
    this.drawSoon();
  }

  end(digest: Digest): void {
    this.lines.delete(digest);
    this.drawSoon();
  }

  /** Nothing is sent: who is asked is what people wait for. */
  asked(label: string): void {
    this.total = label;
    this.drawSoon();
  }

  /** Writes a line that stays, above the live ones. */
  above(text: string): void {
    this.clear();
    this.terminal.write(`${text}\n`);
    this.drawSoon();
  }

  /** Clears the lines, and shows the cursor again. */
  stop(): void {
    clearTimeout(this.drawing);
    this.clear();
  }

  private drawSoon(): void {
    this.drawing ??= setTimeout(() => {
      this.drawing = undefined;
      this.draw();
    }, drawnEvery).unref();
  }

  private draw(): void {
    const { columns, rows } = this.terminal;
    const bars = [...this.lines.values()].map(({ label, size, done }) => {
      const full = Math.round((done / size) * barWidth);
      const bar = this.style.good('━'.repeat(full) + '─'.repeat(barWidth - full));
      return { bar: `${bar} ${String(Math.floor((done / size) * 100)).padStart(3)}%  `, label };
    });
    // A line that is wider than the terminal, or one more than it has, could not be cleared again.
    const shown = [{ bar: '', label: this.total }, ...bars].slice(0, Math.max(1, rows - 1));
    const text = shown.map(({ bar, label }) => bar + label.slice(0, Math.max(0, columns - 1 - stringWidth(bar))));
    this.clear();
    this.terminal.write(`\x1b[?25l${text.join('\n')}\n`);
    this.drawn = shown.length;
  }

  private clear(): void {
    if (this.drawn > 0) {
      this.terminal.write(`\x1b[${this.drawn}A\r\x1b[J\x1b[?25h`);
      this.drawn = 0;
    }
  }
}
