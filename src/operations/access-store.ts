import type { Secrets } from '../core/access/secrets';
import { HodError } from '../core/errors';
import { parseRegistry } from '../core/oci/reference';
import { toStoredLoginsResult, type StoredLoginsResult } from '../results/access';
import { readStored, storedFile, writeStored } from '../workspace/stored-logins';

/** What `access store` is told. */
export interface StoreOptions {
  registry: string;
  username: string;
  password: string;
  dryRun?: true | undefined;
}

/** Stores the login of a registry for this user. */
export async function storeLogin(options: StoreOptions, secrets: Secrets): Promise<StoredLoginsResult> {
  const { username, password, dryRun = false } = options;
  const host = parseRegistry(options.registry);
  if (password === '') {
    throw new HodError('password-missing', {
      what: 'there is no password to store',
      object: host,
      why: 'standard input was empty',
      next: `give it on standard input: hod access store ${host} --user ${username} < FILE`,
    });
  }
  const logins = await readStored(secrets);
  logins.set(host, { username, password: secrets.keep(password, host, username) });
  if (!dryRun) {
    await writeStored(logins);
  }
  return toStoredLoginsResult(storedFile(), logins, dryRun);
}
