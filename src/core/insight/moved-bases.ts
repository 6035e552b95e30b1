import type { Action } from '../ledger/entries';
import { baseKey, type FactKey, type Facts } from '../ledger/facts';
import type { CommitId } from '../commit';
import { isDigest, type Digest } from '../oci/digest';
import type { Version } from '../tags/version';

/** What an image was built on, and what the name of that leads to now. */
export interface ComponentBase {
  readonly environment: string;
  readonly component: string;
  readonly version: Version | undefined;
  readonly commit: CommitId;
  readonly platform: string;
  readonly name: string;
  /** The digest when the image was built. */
  readonly digest: string;
  /** The digest now; undefined where the name leads to nothing, or that is not known. */
  readonly now: Digest | undefined;
  readonly state: 'current' | 'moved' | 'unknown';
  readonly detail: string;
}

/** The facts that tell which moved bases the ledger knows of. */
export function baseFacts(bases: readonly ComponentBase[]): FactKey[] {
  return bases.filter(({ state }) => state === 'moved').map((base) => ({ kind: 'base', key: baseKey(base) }));
}

/** What the ledger is told of bases that moved: an entry for each environment, of those that it does not know of. */
export function movedBases(bases: readonly ComponentBase[], facts: Facts): Action[] {
  const fresh = bases.flatMap(({ environment, component, version, commit, platform, name, digest, now, state }) => {
    const known = facts.get('base', baseKey({ environment, component, platform, name }));
    const isKnown = known?.was === digest && known.is === (now ?? null);
    return state !== 'moved' || isKnown || !isDigest(digest)
      ? []
      : [{ environment, base: { component, version, commit, platform, name, was: digest, is: now ?? null } }];
  });
  return [...new Set(fresh.map(({ environment }) => environment))].map((environment) => ({
    kind: 'base-moved',
    environment,
    bases: fresh.filter((each) => each.environment === environment).map(({ base }) => base),
  }));
}
