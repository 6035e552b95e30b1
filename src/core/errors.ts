/**
 * The one form of every error a user can meet: what happened, to which object, why, and what to do
 * next. The fault decides the exit code of the program.
 */

/** What kind of failure this is; each has one exit code. */
export type Fault = 'defect' | 'usage' | 'refused' | 'missing' | 'denied' | 'unavailable' | 'corrupt' | 'interrupted';

/** The exit code of each fault. Part of the stable interface: see docs/exit-codes.md. */
export const exitCodes: Readonly<Record<Fault, number>> = {
  defect: 1,
  usage: 2,
  refused: 3,
  missing: 4,
  denied: 5,
  unavailable: 6,
  corrupt: 7,
  interrupted: 130,
};

/** Why a registry cannot be used; what `hod access check` tells apart. */
export type AccessReason =
  | 'host-unknown'
  | 'not-listening'
  | 'tls-untrusted'
  | 'proxy'
  | 'not-a-registry'
  | 'login-needed'
  | 'login-refused'
  | 'no-right'
  | 'no-repository';

/** The parts of an error message. */
export interface Problem {
  reason?: AccessReason;
  /** What happened, one line, no full stop. */
  what: string;
  /** The object it happened to: a file, a reference, a tag. */
  object?: string;
  /** The cause or the rule. Several lines where there are several causes. */
  why?: string;
  /** What the user can do next. */
  next?: string;
}

/** A failure that a user can cause or meet. Anything else that is thrown is a defect in Hod. */
export class HodError extends Error {
  override readonly name = 'HodError';

  constructor(
    readonly fault: Fault,
    readonly problem: Problem,
    options?: { cause?: unknown },
  ) {
    super(problem.why === undefined ? problem.what : `${problem.what}: ${problem.why}`, options);
  }

  /** The exit code of the program when this error ends it. */
  get exitCode(): number {
    return exitCodes[this.fault];
  }
}

/** The `code` of a Node.js system or socket error (`ENOENT`, `ECONNREFUSED`, …), if it has one. */
export function systemErrorCode(error: unknown): string | undefined {
  const code: unknown = typeof error === 'object' && error !== null && 'code' in error ? error.code : undefined;
  return typeof code === 'string' ? code : undefined;
}
