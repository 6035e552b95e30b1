import { Secrets } from '../core/access/secrets';
import { HodError } from '../core/errors';
import { Refusal } from '../core/release/refusal';
import { linesOf, type Text } from '../core/text';

/** The secrets that this process has read. */
export const knownSecrets = new Secrets();

/** An error as it may be shown: where it repeats what others said, it repeats no secret. */
export function withoutSecrets(error: HodError): HodError {
  if (error instanceof Refusal) {
    const [first, ...others] = error.gates;
    const safe = <T extends { detail: Text }>(gate: T): T => ({ ...gate, detail: redacted(gate.detail) });
    return new Refusal([safe(first), ...others.map(safe)]);
  }
  const { why } = error.problem;
  return why === undefined
    ? error
    : new HodError(error.code, { ...error.problem, why: redacted(why) }, { cause: error });
}

function redacted(text: Text): Text {
  const lines = linesOf(text).map((line) => knownSecrets.redact(line));
  return typeof text === 'string' ? (lines[0] ?? '') : lines;
}
