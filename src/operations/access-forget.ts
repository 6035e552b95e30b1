import type { Secrets } from '../core/access/secrets';
import { HodError } from '../core/errors';
import { parseRegistry } from '../core/oci/reference';
import { toStoredLoginsResult, type StoredLoginsResult } from '../results/access';
import { changeStored, readStored, storedFile, type StoredLogin } from '../workspace/stored-logins';

/** What `access forget` is told. */
export interface ForgetOptions {
  registry: string;
  dryRun?: true | undefined;
}

/** Removes the stored login of a registry. Throws `missing` where there is none. */
export async function forgetLogin({ registry, dryRun }: ForgetOptions, secrets: Secrets): Promise<StoredLoginsResult> {
  const host = parseRegistry(registry);
  const forget = (logins: Map<string, StoredLogin>): Map<string, StoredLogin> => {
    if (!logins.delete(host)) {
      throw new HodError('login-not-stored', {
        what: 'no login is stored for this registry',
        object: host,
        why: `${storedFile()} holds ${[...logins.keys()].join(', ') || 'none'}`,
        next: '`hod access list` shows what is stored',
      });
    }
    return logins;
  };
  const logins = dryRun === true ? forget(await readStored(secrets)) : await changeStored(secrets, forget);
  return toStoredLoginsResult(storedFile(), logins, { dryRun: dryRun === true });
}
