import type { Secrets } from '../core/access/secrets';
import { toStoredLoginsResult, type StoredLoginsResult } from '../results/access';
import { readStored, storedFile } from '../workspace/stored-logins';

/** The registries that a login is stored for. */
export async function listLogins(secrets: Secrets): Promise<StoredLoginsResult> {
  return toStoredLoginsResult(storedFile(), await readStored(secrets));
}
