import { setTimeout as delay } from 'node:timers/promises';
import { HodError, type ErrorCode, type Problem } from '../../core/errors';
import { retrying } from '../../core/retrying';

/** The failures that may pass. */
export type TransientCode = Extract<
  ErrorCode,
  | 'host-unknown'
  | 'not-listening'
  | 'timed-out'
  | 'connection-broken'
  | 'registry-fault'
  | 'rate-limited'
  | 'upload-lost'
>;

/** A failure that may pass: a dropped connection, an answer such as 503. */
export class TransientError extends HodError {
  /** How long the other side asks to wait, in milliseconds. */
  readonly retryAfter: number | undefined;

  constructor(
    code: TransientCode,
    problem: Problem,
    options: { cause?: unknown; retryAfter?: number | undefined } = {},
  ) {
    super(code, problem, { cause: options.cause });
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
  let counted = 0;
  return retrying(work, async (error) => {
    if (!(error instanceof TransientError)) {
      throw error;
    }
    counted = advanced() ? 1 : counted + 1;
    if (counted === attempts) {
      const { code, problem, cause } = error;
      const why = [problem.why, `tried ${attempts} times`].filter((each) => each !== undefined).join('; ');
      throw new HodError(code, { ...problem, why }, { cause });
    }
    const backoff = firstDelay * 2 ** (counted - 1) * (0.5 + Math.random());
    await delay(Math.min(longestDelay, error.retryAfter ?? backoff));
  });
}
