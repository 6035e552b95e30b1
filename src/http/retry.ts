import { setTimeout as delay } from 'node:timers/promises';
import { HodError, type ErrorCode, type Problem } from '../core/errors';
import { retrying, silentWait } from '../core/retrying';
import { asOneLine, linesOf } from '../core/text';

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

/** How work is tried again that failed in a way that may pass. Times are in milliseconds. */
export interface Retries {
  /** Before the first repetition; doubled for each that follows. */
  readonly firstDelay: number;
  /** How long it may go on without getting any further. */
  readonly budget: number;
  /** Told of a long wait. */
  readonly waiting: (text: string) => void;
}

const attempts = 4;
/**
 * A pipeline should end rather than wait longer.
 * @limit the wait that a registry asks for | ms | exit 6
 */
const longestDelay = 60_000;

/** A try that got further by so many bytes is not counted. Fewer would go on for ever. */
const leastAdvance = 64 * 1024;

/** How far work has got, over all tries of it. */
export class Advance {
  private furthest: number;

  /** @param reached Bytes that are done. */
  constructor(public reached = 0) {
    this.furthest = reached;
  }

  /** Whether the last try got further than all before it. */
  made(): boolean {
    const further = this.reached >= this.furthest + leastAdvance;
    this.furthest = further ? this.reached : this.furthest;
    return further;
  }
}

/**
 * Does the work again, with growing pauses, while it fails in a way that may pass.
 *
 * @param advanced Whether the last try got further than the one before; such a try does not count.
 */
export function withRetries<T>(work: () => Promise<T>, retries: Retries, advanced?: () => boolean): Promise<T> {
  return retrying(work, pausesBetween(retries, advanced));
}

/** Pauses after each failure that may pass, longer each time. Throws any other, and where it went on for too long. */
export function pausesBetween(
  retries: Retries,
  advanced: () => boolean = () => false,
): (error: unknown) => Promise<void> {
  let counted = 0;
  let begun = performance.now();
  return async (error) => {
    if (!(error instanceof TransientError)) {
      throw error;
    }
    if (advanced()) {
      counted = 0;
      begun = performance.now();
    }
    counted += 1;
    const { retryAfter } = error;
    if (retryAfter !== undefined && retryAfter > longestDelay) {
      throw lasting(error, `it asks for a pause of ${wordsOf(retryAfter)}`);
    }
    if (counted === attempts || performance.now() - begun > retries.budget) {
      throw lasting(error, counted === 1 ? 'tried once' : `tried ${counted} times`);
    }
    const pause = retryAfter ?? retries.firstDelay * 2 ** (counted - 1) * (0.5 + Math.random());
    if (pause > silentWait) {
      retries.waiting(`${asOneLine(error.problem.why ?? error.problem.what)}; it asks to wait ${wordsOf(pause)}`);
    }
    await delay(pause);
  };
}

/** An error that may pass, as one that did not. */
function lasting({ code, problem, cause }: TransientError, more: string): HodError {
  return new HodError(code, { ...problem, why: asOneLine([...linesOf(problem.why ?? []), more]) }, { cause });
}

function wordsOf(milliseconds: number): string {
  const seconds = Math.ceil(milliseconds / 1000);
  return seconds < 600
    ? `${seconds} s`
    : seconds < 72 * 3600
      ? `${Math.ceil(seconds / 60)} min`
      : `${Math.ceil(seconds / 86_400)} d`;
}
