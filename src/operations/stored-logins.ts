import { keepSecret } from '../core/access/secrets';
import { HodError } from '../core/errors';
import { parseRepository } from '../core/oci/reference';
import { readStored, storedFile, writeStored } from '../workspace/stored';
import type { StoredLoginsResult } from './results';

/** Stores the login of a registry for this user. */
export async function storeLogin(registry: string, username: string, password: string): Promise<StoredLoginsResult> {
  const host = hostFrom(registry);
  if (password === '') {
    throw new HodError('usage', {
      what: 'there is no password to store',
      object: host,
      why: 'standard input was empty',
      next: `give it on standard input: hod access store ${host} --user ${username} < FILE`,
    });
  }
  const logins = await readStored();
  logins.set(host, { username, password: keepSecret(password, username) });
  await writeStored(logins);
  return listed(logins);
}

/** Removes the stored login of a registry. Throws `missing` where there is none. */
export async function forgetLogin(registry: string): Promise<StoredLoginsResult> {
  const logins = await readStored();
  if (!logins.delete(hostFrom(registry))) {
    throw new HodError('missing', {
      what: 'no login is stored for this registry',
      object: registry,
      why: `${storedFile()} holds ${[...logins.keys()].join(', ') || 'none'}`,
      next: '`hod access list` shows what is stored',
    });
  }
  await writeStored(logins);
  return listed(logins);
}

/** The registries that a login is stored for. */
export async function listLogins(): Promise<StoredLoginsResult> {
  return listed(await readStored());
}

function listed(logins: ReadonlyMap<string, { username: string }>): StoredLoginsResult {
  return { file: storedFile(), logins: [...logins].map(([registry, { username }]) => ({ registry, username })) };
}

function hostFrom(registry: string): string {
  return parseRepository(`${registry}/any`).registry;
}
