import { isThisMachine, whyExposed } from '../../core/access/destinations';
import { HodError } from '../../core/errors';
import type { Memory } from '../../core/memory';
import { hostOf } from '../../core/oci/reference';

/** What is known about the token service of a registry before the registry names one. */
export interface KnownTokenService {
  /** The host that hod.yaml names. */
  readonly configured: string | undefined;
  /** The host that the registry named before. */
  readonly memory: Memory<string>;
  /** Tells the user of a host that is trusted from now on. */
  notice(text: string): void;
}

/**
 * Throws where a login for a registry must not go to the token service that the registry names
 * (the `realm` of its challenge, RFC 6750 §3): its host must be the registry's, the one that
 * hod.yaml names, or the one that the registry named the first time.
 */
export async function trustTokenService(realm: URL, registry: URL, known: KnownTokenService): Promise<void> {
  const exposed = whyExposed(realm, registry);
  if (exposed !== undefined) {
    throw new HodError('token-service-unsafe', {
      what: 'the token service of a registry is not safe',
      object: registry.host,
      why: `a login is not sent there: ${exposed}`,
      next: 'have the registry name its token service with https, and by a name that others can reach too',
    });
  }
  const same =
    hostOf(realm.host) === hostOf(registry.host) || (isThisMachine(realm.host) && isThisMachine(registry.host));
  if (same || realm.host === known.configured) {
    return;
  }
  const before = known.configured ?? (await known.memory.recall());
  if (before === undefined) {
    known.notice(
      `${registry.host} has its logins checked by ${realm.host}; it is trusted for this registry from now on`,
    );
    await known.memory.remember(realm.host);
  } else if (before !== realm.host) {
    throw otherTokenService(realm, registry, before);
  }
}

/** The error for a registry that names another token service than it did. */
export function otherTokenService(realm: URL, registry: URL, before: string): HodError {
  return new HodError('token-service-other', {
    what: 'a registry names another token service than before',
    object: registry.host,
    why: `it was ${before}, and is ${realm.host} now; a login is not sent there`,
    next: `if that is right, write \`token-service: ${realm.host}\` under ${registry.host} in \`registries:\` of hod.yaml`,
  });
}
