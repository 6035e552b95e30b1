import { execFile } from 'node:child_process';
import { promisify } from 'node:util';
import * as z from 'zod';

const run = promisify(execFile);

/** How a program is run. */
export interface ProgramOptions {
  folder: string;
  /** How long it may take, in milliseconds; for ever where it is not given. */
  timeout?: number;
  /** What it reads from its standard input; nothing where it is not given. */
  input?: string;
  /** Variables besides those of this process; undefined for one that it is not to have. */
  env?: Record<string, string | undefined>;
}

/** How a program ended. */
export interface ProgramRun {
  /** The exit code; undefined where it did not end by itself, or could not be started. */
  exitCode: number | undefined;
  /** Why it did not end by itself, in a word: `ENOENT`, `SIGKILL`, `no end within 60 s`. */
  cause: string | undefined;
  stdout: string;
  stderr: string;
}

const outputLimit = 64 * 1024 * 1024;

/** A failed run: its exit code, or the code of the system error or the signal for which there was none. */
const failure = z.object({
  code: z.union([z.number(), z.string()]).nullish(),
  signal: z.string().nullish(),
  killed: z.boolean().catch(false),
  stdout: z.string().catch(''),
  stderr: z.string().catch(''),
});

/** Runs a program without a shell. Never throws for how it ends. */
export async function runProgram(file: string, args: readonly string[], options: ProgramOptions): Promise<ProgramRun> {
  const { folder, timeout = 0, input = '', env = {} } = options;
  const running = run(file, args, { cwd: folder, timeout, maxBuffer: outputLimit, env: { ...process.env, ...env } });
  // One that ends without reading is told of by how it ends.
  running.child.stdin?.on('error', () => undefined).end(input);
  try {
    return { exitCode: 0, cause: undefined, ...(await running) };
  } catch (error) {
    const { code, signal, killed, stdout, stderr } = failure.parse(error);
    if (typeof code === 'number') {
      return { exitCode: code, cause: undefined, stdout, stderr };
    }
    const late = killed && timeout > 0 ? `no end within ${timeout / 1000} s` : undefined;
    return { exitCode: undefined, cause: late ?? code ?? signal ?? 'a signal', stdout, stderr };
  }
}
