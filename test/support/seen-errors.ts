import { appendFileSync, mkdirSync } from 'node:fs';
import { join, resolve } from 'node:path';
import { HodError, type ErrorCode, type Problem } from '../../src/core/errors';

const folder = resolve(__dirname, '../../test-results');

/** Keeps an error that a test produced: docs/errors.md takes its examples from there, and CI checks that none is left out. */
export function keepSeen(code: ErrorCode, problem: Problem): void {
  mkdirSync(folder, { recursive: true });
  appendFileSync(join(folder, 'errors.jsonl'), `${JSON.stringify({ code, ...problem })}\n`);
}

/** Does work that must fail with this code. Answers the error. */
export async function failing(code: ErrorCode, work: () => unknown): Promise<HodError> {
  try {
    await work();
  } catch (error) {
    if (!(error instanceof HodError)) {
      throw error;
    }
    keepSeen(error.code, error.problem);
    expect(error.code).toBe(code);
    return error;
  }
  throw new Error(`it did not fail with ${code}`);
}
