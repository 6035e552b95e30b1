import { setTimeout as delay } from 'node:timers/promises';
import { HodError, type Problem } from '../core/errors';

/** A failure that may pass: a dropped connection, an answer such as 503. */
export class TransientError extends HodError {
  /** How long the other side asks to wait, in milliseconds. */
  readonly retryAfter: number | undefined;

  constructor(problem: Problem, options: { cause?: unknown; retryAfter?: number | undefined } = {}) {
    super('unavailable', problem, { cause: options.cause });
    this.retryAfter = options.retryAfter;
  }
}

const attempts = 4;
/** The longest wait that is honoured when a registry asks for one, in milliseconds. */
const longestDelay = 20_000;

/**
 * Does the work again, with growing pauses, while it fails in a way that may pass.
 *
 * @param firstDelay Milliseconds before the first repetition.
 * @param advanced Whether the last try got further than the one before; such a try does not count.
 */
export async function withRetries<T>(
  work: () => Promise<T>,
  firstDelay: number,
  advanced: () => boolean = () => false,
): Promise<T> {
  for (let attempt = 1; ; attempt += 1) {
    try {
      return await work();
    } catch (error) {
      if (!(error instanceof TransientError)) {
        throw error;
      }
      if (advanced()) {
        attempt = 1;
      }
      if (attempt === attempts) {
        const { fault, problem, cause } = error;
        const why = [problem.why, `tried ${attempts} times`].filter((each) => each !== undefined).join('; ');
        throw new HodError(fault, { ...problem, why }, { cause });
      }
      const backoff = firstDelay * 2 ** (attempt - 1) * (0.5 + Math.random());
      await delay(Math.min(longestDelay, error.retryAfter ?? backoff));
    }
  }
}
