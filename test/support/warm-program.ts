import { fork, type ChildProcess } from 'node:child_process';
import { once } from 'node:events';
import { resolve } from 'node:path';

/** What a run of the program is given. */
export interface WarmRun {
  readonly args: readonly string[];
  readonly cwd: string;
  readonly env: Readonly<Record<string, string>>;
}

/** How it ended. */
export interface WarmEnd {
  readonly code: number | null;
  readonly stdout: string;
  readonly stderr: string;
}

/**
 * The built program in a process that stays: it is loaded and compiled once, and runs one command line after the other, each from
 * its first line on with nothing of the one before. A run has ended when nothing of it is left to do, as a process has.
 */
class WarmProgram {
  private readonly child: ChildProcess;
  /** Its end, and that of what it wrote: with a channel between them, Node.js does not tell of both at once. */
  private readonly ended: Promise<unknown>;
  private count = 0;
  private ending: ((code: number | null) => void) | undefined;
  private stdout = '';
  private stderr = '';
  /** It runs no command line any more. */
  gone = false;

  /** @param program The built program. */
  constructor(program: string) {
    this.child = fork(resolve(__dirname, 'run-warm.cjs'), [program], {
      stdio: ['ignore', 'pipe', 'pipe', 'ipc'],
      // A database that was closed is let go of with what was left of its statements.
      execArgv: ['--expose-gc'],
    });
    this.child.stdout?.setEncoding('utf8').on('data', (text: string) => {
      this.stdout += text;
      this.look();
    });
    this.child.stderr?.setEncoding('utf8').on('data', (text: string) => {
      this.stderr += text;
      this.look();
    });
    const ends = [this.child.stdout, this.child.stderr].map((stream) => stream && once(stream, 'end'));
    this.ended = Promise.all([once(this.child, 'exit'), ...ends]).then(([[code]]) => {
      this.gone = true;
      this.ending?.(typeof code === 'number' ? code : null);
    });
  }

  get busy(): boolean {
    return this.ending !== undefined;
  }

  /** Runs a command line. One at a time. */
  async run(run: WarmRun): Promise<WarmEnd> {
    this.count += 1;
    [this.stdout, this.stderr] = ['', ''];
    const ended = new Promise<number | null>((resolvePromise) => (this.ending = resolvePromise));
    this.child.send({ ...run, id: this.count });
    const code = await ended;
    this.ending = undefined;
    return { code, stdout: this.own(this.stdout), stderr: this.own(this.stderr) };
  }

  /** Ends the process. */
  async close(): Promise<void> {
    if (!this.gone) {
      this.child.disconnect();
      await this.ended;
    }
  }

  private look(): void {
    const end = `\0end ${this.count} `;
    if (this.stdout.includes(end) && this.stderr.includes(end) && this.stdout.endsWith('\0')) {
      this.ending?.(Number(this.stdout.slice(this.stdout.lastIndexOf(end) + end.length, -1)));
    }
  }

  private own(text: string): string {
    return text.split(`\0end ${this.count} `)[0] ?? '';
  }
}

let warm: WarmProgram | undefined;

/** Runs a command line in the process that stays; undefined while another one runs there. */
export function runWarm(program: string, run: WarmRun): Promise<WarmEnd> | undefined {
  if (warm === undefined || warm.gone) {
    warm = new WarmProgram(program);
  }
  return warm.busy ? undefined : warm.run(run);
}

/** Ends the process that ran the command lines of a file of tests. */
export async function closeWarm(): Promise<void> {
  await warm?.close();
  warm = undefined;
}
