import { spawn, type ChildProcess } from 'node:child_process';
import { once } from 'node:events';
import { tmpdir } from 'node:os';
import { join, resolve } from 'node:path';
import type { z } from 'zod';
import type { ErrorCode } from '../../src/core/errors';
import { resultSchemas } from '../../src/results';
import { errorResultSchema, type ErrorResult } from '../../src/results/error';
import { keepSeen } from './seen-errors';
import { runWarm } from './warm-program';

/** The built program. */
export const program = resolve(__dirname, '../../dist/hod.js');

export interface HodRun {
  code: number | null;
  stdout: string;
  stderr: string;
}

export interface HodOptions {
  cwd: string;
  env?: Record<string, string>;
  /** Given on standard input. */
  input?: string | Buffer;
  /** Told of the process as soon as it runs. */
  started?: (child: ChildProcess) => void;
  /** Run it through this command, such as `unshare`. */
  through?: readonly string[];
}

/**
 * Nothing of where the tests run but what a process needs: the variables of the CI that runs them would be taken
 * for the product's. That there is a CI is said everywhere, so that what it changes is seen everywhere.
 */
export const plainEnvironment = {
  ...Object.fromEntries(Object.entries(process.env).filter(([name]) => ['PATH', 'TMPDIR'].includes(name))),
  // Nobody lives there: the logins and settings of who runs the tests are not the product's.
  HOME: join(tmpdir(), 'hod-tests-home'),
  CI: 'true',
  USER: 'una',
  GIT_CONFIG_GLOBAL: '/dev/null',
};

/**
 * Runs the built program and waits for its end. To start a process and to load the program takes longer than most of its work: a
 * run that needs no process of its own takes place in one that stays. It needs its own where it is killed, is given an input, or is
 * told something of Node.js, and beside another.
 */
export async function hod(args: readonly string[], options: HodOptions): Promise<HodRun> {
  const env = { ...plainEnvironment, ...options.env };
  const isPlain = options.started === undefined && options.through === undefined && options.input === undefined;
  const needsOwn = !isPlain || Object.keys(env).some((name) => /^(NODE|SSL|UV)_/.test(name));
  const warm = needsOwn ? undefined : runWarm(program, { args, cwd: options.cwd, env });
  return warm ?? hodInOwnProcess(args, options);
}

/** Runs the built program in a process of its own, as users do, and waits for its end. */
export async function hodInOwnProcess(args: readonly string[], options: HodOptions): Promise<HodRun> {
  const line = [...(options.through ?? []), process.execPath, program, ...args];
  const child = spawn(line[0] ?? '', line.slice(1), {
    cwd: options.cwd,
    env: { ...plainEnvironment, ...options.env },
    stdio: ['pipe', 'pipe', 'pipe'],
  });
  child.stdin.on('error', () => undefined).end(options.input ?? '');
  options.started?.(child);
  let stdout = '';
  let stderr = '';
  child.stdout.setEncoding('utf8').on('data', (text: string) => (stdout += text));
  child.stderr.setEncoding('utf8').on('data', (text: string) => (stderr += text));
  const [code]: unknown[] = await once(child, 'close');
  return { code: typeof code === 'number' ? code : null, stdout, stderr };
}

/** What was said but for the progress of a run that takes long, as it may where the machine is busy. */
export function withoutProgress(stderr: string): string {
  return stderr.replace(/^\d+ requests? answered, the last by .*\n/gm, '');
}

type Schemas = typeof resultSchemas;

/** Runs a command with `--json`, expects exit 0, and answers its document, checked against its schema. */
export async function hodJson<K extends keyof Schemas>(
  kind: K,
  args: readonly string[],
  options: HodOptions,
): Promise<z.infer<Schemas[K]>> {
  const run = await hod([...args, '--json'], options);
  if (run.code !== 0) {
    throw new Error(`hod ${args.join(' ')} ended with ${run.code ?? 'a signal'}:\n${run.stderr}`);
  }
  const schema: { [N in keyof Schemas]: z.ZodType<z.infer<Schemas[N]>> } = resultSchemas;
  return schema[kind].parse(JSON.parse(run.stdout));
}

/** Runs a command that must fail with this code, in the one form of errors and without a stack. */
export async function hodFails(
  code: ErrorCode,
  args: readonly string[],
  options: HodOptions,
): Promise<ErrorResult['error']> {
  const run = await hod([...args, '--json'], options);
  expect(run.stderr).not.toMatch(/\n\s+at /);
  expect(run.stderr.match(/^hod: /gm)).toHaveLength(1);
  const { error } = errorResultSchema.parse(JSON.parse(run.stdout));
  keepSeen(error.code, problemOf(error));
  expect({ code: error.code, exit: run.code, stderr: run.stderr }).toEqual({
    code,
    exit: error.exitCode,
    stderr: expect.stringMatching(/^hod: [^\n]+\n/m),
  });
  // Every no says why, and what to do.
  expect([error.object, error.why, error.next]).not.toContain(null);
  return error;
}

function problemOf({ what, object, why, next }: ErrorResult['error']) {
  return { what, object: object ?? '', why: why ?? '', next: next ?? '' };
}
