import type { Secrets } from '../core/access/secrets';
import { HodError } from '../core/errors';
import { parseRegistry } from '../core/oci/reference';
import type { Observer } from '../session/observer';
import { configIfAny } from '../session/session';
import { tryLogin } from '../session/try-login';
import { toStoredLoginsResult, type StoredLoginsResult } from '../results/access';
import { changeStored, readStored, storedFile, type StoredLogin } from '../workspace/stored-logins';

/** What `access store` is told. */
export interface StoreOptions {
  registry: string;
  username: string;
  password: string;
  /** Path of a configuration that says how the registry is reached. */
  config?: string | undefined;
  dryRun?: true | undefined;
}

/** Stores the login of a registry for this user, once the registry took it. */
export async function storeLogin(
  options: StoreOptions,
  { secrets, observer }: { secrets: Secrets; observer: Observer },
): Promise<StoredLoginsResult> {
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
  await readStored(secrets);
  const login = { username, password: secrets.keep(password, host, username) };
  const asked = await tryLogin(host, login, await configIfAny(options), { secrets, observer });
  if (!asked) {
    observer.note(`${host} asks for no login at its front: whether this one is good is seen where it is used`);
  }
  const store = (logins: Map<string, StoredLogin>): Map<string, StoredLogin> => logins.set(host, login);
  const logins = dryRun ? store(await readStored(secrets)) : await changeStored(secrets, store);
  return toStoredLoginsResult(storedFile(), logins, { dryRun });
}
