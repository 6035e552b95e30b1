import { formatCount } from '../core/amounts';
import type { Digest } from '../core/oci/digest';
import { visible } from '../core/text';
import type { Observer } from '../session/observer';
import { knownSecrets } from './known-secrets';
import type { OutputOptions } from './options';
import { LiveLines } from './live-lines';
import { Progress, progressLine } from './progress';
import { tell } from './streams';
import { columns } from './views/format';
import type { Style } from './views/style';

/** Writes logs and progress to standard error until it is ended. */
export interface TerminalObserver extends Observer {
  /** Told how far the work on several products has come, as text: it stands before the progress. */
  counted(text: string): void;
  end(): void;
}

/** How often a line of progress is written where no terminal is, in milliseconds. */
const lineInterval = 5000;

/** What to tell, by the options: live lines on a terminal, a line now and then elsewhere, nothing with --quiet or --json. */
export function observerFor(options: OutputOptions, style: Style): TerminalObserver {
  const verbose = options.verbose === true;
  const telling = options.quiet !== true && options.json !== true && options.field === undefined;
  const live = telling && !verbose && process.stderr.isTTY ? new LiveLines(process.stderr, style) : undefined;
  return new TerminalLog({ verbose, telling, quiet: options.quiet === true }, style, live);
}

/** How much is told. `quiet`: not even what is waited for. */
interface Telling {
  readonly verbose: boolean;
  readonly telling: boolean;
  readonly quiet: boolean;
}

/** Its functions are handed on by themselves: they are bound. */
class TerminalLog implements TerminalObserver {
  private readonly progress = new Progress();
  private asked = 0;
  private toldOf = 0;
  private host = '';
  private far = '';
  private readonly timer = setInterval(() => this.tellProgress(), lineInterval);

  constructor(
    private readonly how: Telling,
    private readonly style: Style,
    private readonly live: LiveLines | undefined,
  ) {
    this.timer.unref();
    // However the run ends, the cursor is to be seen again.
    process.once('exit', this.stop);
  }

  readonly exchange = ({ method, host, path, outcome, milliseconds }: Parameters<Observer['exchange']>[0]): void => {
    this.asked += 1;
    this.host = host;
    if (this.how.verbose) {
      const time = this.style.faint(new Date().toISOString().slice(11, 23));
      tell(`${time} ${shown(`${method} ${host}${path} ${outcome} ${Math.round(milliseconds)} ms`)}`);
    } else if (this.progress.running === 0) {
      this.live?.asked(this.askedLine());
    }
  };

  readonly transfer = {
    begin: (digest: Digest, repository: string, size: number): void => {
      this.progress.begin(size, performance.now());
      this.live?.begin(digest, repository, size);
    },
    sent: (digest: Digest, bytes: number): void => {
      this.progress.sent(bytes);
      this.live?.sent(digest, bytes, this.progress);
    },
    end: (digest: Digest): void => {
      this.progress.end();
      this.live?.end(digest);
    },
  };

  readonly build = (details: Parameters<Observer['build']>[0]): void => {
    if (this.how.verbose) {
      const rows = details.map(({ name, value, source }) => [
        name,
        shown(value ?? 'not known'),
        shown(value === undefined ? source : `(${source})`),
      ]);
      columns(rows, '  ', (cell, column) => (column === 2 ? this.style.faint(cell) : cell)).forEach(tell);
    }
  };

  readonly note = (text: string): void => {
    this.tellIf(this.how.telling, text);
  };

  readonly detail = (text: string): void => {
    this.tellIf(this.how.verbose, text);
  };

  readonly waiting = (text: string): void => {
    // Also beside a document: a job that is silent for a minute looks dead.
    this.tellIf(!this.how.quiet, text);
  };

  readonly recorded = ({ seq, attempt, milliseconds }: Parameters<Observer['recorded']>[0]): void => {
    if (this.how.verbose) {
      tell(`ledger: entry ${seq} written in ${milliseconds.toFixed(1)} ms, at attempt ${attempt}`);
    }
  };

  readonly end = (): void => {
    clearInterval(this.timer);
    process.removeListener('exit', this.stop);
    this.stop();
  };

  private readonly stop = (): void => this.live?.stop();

  private tellIf(wanted: boolean, text: string): void {
    if (wanted) {
      const line = this.style.faint(shown(text));
      if (this.live === undefined) {
        tell(line);
      } else {
        this.live.above(line);
      }
    }
  }

  private tellProgress(): void {
    if (this.how.telling && this.live === undefined && this.progress.running > 0) {
      tell(progressLine(this.progress, performance.now()));
    } else if (this.how.telling && this.live === undefined && this.asked > this.toldOf) {
      tell(this.askedLine());
    }
    this.toldOf = this.asked;
  }

  readonly counted = (text: string): void => {
    this.far = `${text}, `;
  };

  private askedLine(): string {
    return `${this.far}${formatCount(this.asked, 'request')} answered, the last by ${shown(this.host)}`;
  }
}

/** What others may have said, as it may be shown. */
function shown(text: string): string {
  return visible(knownSecrets.redact(text));
}
