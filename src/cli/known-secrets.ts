import { Secrets } from '../core/access/secrets';
import { HodError } from '../core/errors';
import { Refusal } from '../core/release/refusal';

/** The secrets that this process has read. */
export const knownSecrets = new Secrets();

/** An error as it may be shown: what others said in it repeats no secret. */
export function withoutSecrets(error: HodError): HodError {
  if (error instanceof Refusal) {
    const [first, ...others] = error.gates;
    return new Refusal([redacted(first), ...others.map(redacted)]);
  }
  return new HodError(error.code, redacted(error.problem), { cause: error });
}

/** A record with every text in it redacted. */
function redacted<T extends object>(record: T): T {
  const safe = { ...record };
  for (const [key, value] of Object.entries(record)) {
    if (typeof value === 'string' && Object.hasOwn(safe, key)) {
      Object.assign(safe, { [key]: knownSecrets.redact(value) });
    }
  }
  return safe;
}
