import type { MultiBar, SingleBar } from 'cli-progress';
import { formatCount } from '../core/amounts';
import type { Digest } from '../core/oci/digest';
import { visible } from '../core/text';
import type { Observer } from '../session/observer';
import { knownSecrets } from './known-secrets';
import type { OutputOptions } from './options';
import { Progress, progressLine } from './progress';
import { tell } from './streams';
import { columns } from './views/format';
import type { Style } from './views/style';

/** Writes logs and progress to standard error until it is ended. */
export interface TerminalObserver extends Observer {
  end(): void;
}

/** How often a line of progress is written where no terminal is, in milliseconds. */
const lineInterval = 5000;

/** What to tell, by the options: live lines on a terminal, a line now and then elsewhere, nothing with --quiet or --json. */
export async function observerFor(options: OutputOptions, style: Style): Promise<TerminalObserver> {
  const verbose = options.verbose === true;
  const telling = options.quiet !== true && options.json !== true && options.field === undefined;
  const progress = new Progress();
  const live = telling && !verbose && process.stderr.isTTY ? await startLive(style) : undefined;
  const stop = (): void => live?.stop();
  // However the run ends, the cursor is to be seen again.
  process.once('exit', stop);
  let [asked, told] = [0, 0];
  let host = '';
  const askedLine = (): string => `${formatCount(asked, 'request')} answered, the last by ${shown(host)}`;
  const timer = setInterval(() => {
    if (telling && live === undefined && progress.running > 0) {
      tell(progressLine(progress, performance.now()));
    } else if (telling && live === undefined && asked > told) {
      tell(askedLine());
    }
    told = asked;
  }, lineInterval);
  timer.unref();
  return {
    exchange({ method, host: by, path, outcome, milliseconds }) {
      asked += 1;
      host = by;
      if (verbose) {
        const time = style.faint(new Date().toISOString().slice(11, 23));
        tell(`${time} ${shown(`${method} ${host}${path} ${outcome} ${Math.round(milliseconds)} ms`)}`);
      } else if (progress.running === 0) {
        live?.asked(askedLine());
      }
    },
    transfer: {
      begin(digest: Digest, repository: string, size: number) {
        progress.begin(size, performance.now());
        live?.begin(digest, repository, size, progress);
      },
      sent(digest: Digest, bytes: number) {
        progress.sent(bytes);
        live?.sent(digest, bytes, progress);
      },
      end(digest: Digest) {
        progress.end();
        live?.end(digest);
      },
    },
    build(details) {
      if (verbose) {
        const rows = details.map(({ name, value, source }) => [
          name,
          shown(value ?? 'not known'),
          shown(value === undefined ? source : `(${source})`),
        ]);
        columns(rows, '  ', (cell, column) => (column === 2 ? style.faint(cell) : cell)).forEach(tell);
      }
    },
    note(text) {
      if (telling) {
        tell(style.faint(shown(text)));
      }
    },
    detail(text) {
      if (verbose) {
        tell(style.faint(shown(text)));
      }
    },
    waiting(text) {
      // Also beside a document: a job that is silent for a minute looks dead.
      if (options.quiet !== true) {
        tell(style.faint(shown(text)));
      }
    },
    recorded({ seq, attempt, milliseconds }) {
      if (verbose) {
        tell(`ledger: entry ${seq} written in ${milliseconds.toFixed(1)} ms, at attempt ${attempt}`);
      }
    },
    end() {
      clearInterval(timer);
      process.removeListener('exit', stop);
      stop();
    },
  };
}

/** What others may have said, as it may be shown. */
function shown(text: string): string {
  return visible(knownSecrets.redact(text));
}

async function startLive(style: Style): Promise<LiveLines> {
  const { default: cliProgress } = await import('cli-progress');
  const bars = new cliProgress.MultiBar({
    stream: process.stderr,
    clearOnComplete: true,
    hideCursor: true,
    fps: 8,
    format: `${style.good('{bar}')} {percentage}%  {label}`,
    barCompleteChar: '━',
    barIncompleteChar: '─',
    barsize: 24,
  });
  return new LiveLines(bars);
}

/** One live line for each running transfer, and one for all. */
class LiveLines {
  private readonly total: SingleBar;
  private readonly lines = new Map<Digest, SingleBar>();

  constructor(private readonly bars: MultiBar) {
    this.total = bars.create(1, 0, { label: '' });
  }

  begin(digest: Digest, repository: string, size: number, progress: Progress): void {
    this.total.setTotal(progress.begunBytes);
    this.lines.set(
      digest,
      this.bars.create(Math.max(1, size), 0, { label: `${digest.slice(7, 19)} to ${repository}` }),
    );
  }

  sent(digest: Digest, bytes: number, progress: Progress): void {
    this.lines.get(digest)?.increment(bytes);
    this.total.update(progress.sentBytes, { label: progressLine(progress, performance.now()) });
  }

  end(digest: Digest): void {
    const line = this.lines.get(digest);
    if (line !== undefined) {
      this.bars.remove(line);
      this.lines.delete(digest);
    }
  }

  /** Nothing is sent: who is asked is what people wait for. */
  asked(label: string): void {
    this.total.update({ label });
  }

  stop(): void {
    this.bars.stop();
  }
}
