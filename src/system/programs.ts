import { spawn, type ChildProcess } from 'node:child_process';
import { once } from 'node:events';
import type { Readable } from 'node:stream';
import { systemErrorCode } from '../core/errors';

/** How a program is run. */
export interface ProgramOptions {
  readonly folder: string;
  /** How long it may take, in milliseconds; for ever where it is not given. */
  readonly timeout?: number | undefined;
  /** What it reads from its standard input; nothing where it is not given. */
  readonly input?: string | Buffer | undefined;
  /** Variables besides those of this process; undefined for one that it is not to have. */
  readonly env?: Readonly<Record<string, string | undefined>>;
  /** It ends together with all that it starts. It has no terminal then. */
  readonly group?: boolean;
}

/** How a program ended. */
export interface ProgramRun {
  /** Undefined where it did not end by itself, or could not be started. */
  readonly exitCode: number | undefined;
  /** Why it did not end by itself, in a few words: `ENOENT`, `SIGKILL`, `no end within 60 s`. */
  readonly cause: string | undefined;
  readonly stdout: string;
  /** The last 64 KiB of it. */
  readonly stderr: string;
}

/**
 * The output is held in memory.
 * @limit the output of a program that Hod runs (git, ssh, a login helper) | bytes | the program is ended
 */
const outputLimit = 64 * 1024 ** 2;
/**
 * The error output is held in memory, and its end says why a program failed.
 * @limit the error output of a program that Hod runs | bytes | the beginning is dropped
 */
const errorLimit = 64 * 1024;

/** Groups of processes that have not ended. */
const groups = new Set<number>();
process.on('exit', () => groups.forEach((pid) => end(-pid)));

/** Runs a program without a shell, to its end. Never throws for how it ends. */
export async function runProgram(file: string, args: readonly string[], options: ProgramOptions): Promise<ProgramRun> {
  const { folder, timeout, input = '', env = {}, group = false } = options;
  const child: ChildProcess = spawn(file, args, { cwd: folder, env: { ...process.env, ...env }, detached: group });
  const { pid, stdin, stdout: output, stderr: errors } = child;
  // Where no more files may be open, there are no pipes to it.
  if (!stdin || !output || !errors) {
    return notStarted((await once(child, 'error'))[0]);
  }
  const target = pid === undefined ? undefined : group ? -pid : pid;
  if (group && pid !== undefined) {
    groups.add(pid);
  }
  // One that ends without reading is told of by how it ends.
  stdin.on('error', () => undefined).end(input);
  let stopped: string | undefined;
  const stop = (cause: string): void => {
    stopped ??= cause;
    end(target);
    // What it started may live on, and keep these open.
    output.destroy();
    errors.destroy();
  };
  const timer =
    timeout === undefined ? undefined : setTimeout(() => stop(`no end within ${timeout / 1000} s`), timeout);
  try {
    const [stdout, stderr, { code, signal }] = await Promise.all([
      wholeOf(output, () => stop(`more than ${outputLimit} bytes of output`)),
      endOf(errors),
      ended(child),
    ]);
    const cause = stopped ?? signal ?? undefined;
    return { exitCode: cause === undefined ? (code ?? undefined) : undefined, cause, stdout, stderr };
  } catch (error) {
    return notStarted(error);
  } finally {
    clearTimeout(timer);
    if (pid !== undefined) {
      groups.delete(pid);
    }
  }
}

function notStarted(error: unknown): ProgramRun {
  return { exitCode: undefined, cause: systemErrorCode(error) ?? String(error), stdout: '', stderr: '' };
}

async function ended(child: ChildProcess): Promise<{ code: number | null; signal: string | null }> {
  await once(child, 'close');
  return { code: child.exitCode, signal: child.signalCode };
}

/** Kills a process, or the group whose number is negative; one that has ended is left alone. */
function end(target: number | undefined): void {
  try {
    if (target !== undefined) {
      process.kill(target, 'SIGKILL');
    }
  } catch {
    // It has ended.
  }
}

/** Everything that a stream says, up to the limit. */
async function wholeOf(stream: Readable, tooMuch: () => void): Promise<string> {
  const pieces: Buffer[] = [];
  let length = 0;
  stream.on('data', (piece: Buffer) => {
    length += piece.length;
    if (length <= outputLimit) {
      pieces.push(piece);
    } else {
      tooMuch();
    }
  });
  await closed(stream);
  return Buffer.concat(pieces).toString('utf8');
}

/** The last that a stream says. */
async function endOf(stream: Readable): Promise<string> {
  let last = Buffer.alloc(0);
  stream.on('data', (piece: Buffer) => {
    last = Buffer.concat([last, piece]).subarray(-errorLimit);
  });
  await closed(stream);
  return last.toString('utf8');
}

/** Waits until a stream is closed: at its end, or because nobody listens any more. */
function closed(stream: Readable): Promise<void> {
  return new Promise((resolve) => stream.once('close', resolve));
}
