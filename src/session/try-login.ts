import type { Secrets } from '../core/access/secrets';
import { ConnectionPool, Connections } from '../registry/connections';
import { usualPatience } from '../http/wire';
import type { Config } from '../workspace/config';
import type { Observer } from './observer';
import { accessTo } from './registry-access';

/**
 * Tries a login where it is to be used, before it is kept. Answers whether the registry asked for it at all. Throws where it
 * refuses it, or cannot be reached.
 */
export async function tryLogin(
  registry: string,
  login: { username: string; password: string },
  config: Config | undefined,
  { secrets, observer }: { secrets: Secrets; observer: Observer },
): Promise<boolean> {
  const origin = {
    name: `the login of ${login.username}`,
    next: 'check the user name and the password; nothing was stored',
  };
  const pool = new ConnectionPool({ jobs: 1, secrets, patience: usualPatience, observer });
  const connections = new Connections(
    (host) =>
      accessTo(host, config, {
        secrets,
        observer,
        credentials: () => Promise.resolve({ credential: { kind: 'password', ...login }, expires: undefined, origin }),
      }),
    pool,
  );
  try {
    return await (await connections.to(registry)).tryLogin();
  } finally {
    await pool.close();
  }
}
