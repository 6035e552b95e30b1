import { HodError } from '../core/errors';
import type { Digest } from '../core/oci/digest';
import { parseRepository, type Repository, type RepositoryName } from '../core/oci/reference';
import type { Despite } from '../core/release/despite';
import { inFormerPlaces, type WayIn } from '../core/release/gates/way-in';
import type { ComponentDigest } from '../core/ledger/release';
import type { Ledger } from '../ledger/ledger';
import type { RepositoryTarget } from '../registry/ports';
import { settleAll } from '../system/promises';
import type { Place } from './places';

/**
 * Checks that this identity may write where an environment was so far, where somebody says that it is elsewhere from now
 * on: who says where production is must be able to write to production.
 *
 * @throws `content-gone`, and what the registry says where it may not be written.
 */
export async function checkFormerPlaces(
  wayIn: Pick<WayIn, 'environment' | 'repositoryOf'>,
  { newWayIn }: Despite,
  { ledger, clientOf }: { ledger: Pick<Ledger, 'read'>; clientOf: (repository: Repository) => RepositoryTarget },
): Promise<void> {
  if (!newWayIn) {
    return;
  }
  const { facts } = await ledger.read([{ kind: 'environment', key: wayIn.environment }]);
  const former = inFormerPlaces(wayIn, facts);
  await settleAll(former.map(({ repository, digest }) => witnessWrite(clientOf(parseRepository(repository)), digest)));
}

/** Checks, once for each component, that this identity may write where an environment has it. */
export class WriteWitness {
  private readonly witnessed = new Map<string, Promise<void>>();

  constructor(private readonly places: readonly Place[]) {}

  /** @throws what {@link witnessWrite} throws, for the first digest of a component that is to be written or served. */
  async check(targets: readonly ComponentDigest[]): Promise<void> {
    for (const { component, digest } of targets) {
      const target = this.places.find((each) => each.component === component)?.target;
      if (target !== undefined && !this.witnessed.has(component)) {
        this.witnessed.set(component, witnessWrite(target, digest));
      }
    }
    await settleAll([...this.witnessed.values()]);
  }
}

/**
 * Writes a manifest once more that is there: who says what an environment serves must be able to write to it, and finds out
 * before that is recorded.
 *
 * @throws `content-gone` where it is not there, and what the registry says where it may not be written.
 */
export async function witnessWrite(target: RepositoryTarget, digest: Digest): Promise<void> {
  const manifest = await target.manifests.get(digest);
  if (manifest === undefined) {
    throw contentGone(target.label, [digest]);
  }
  await target.manifests.put(digest, manifest);
}

/** The error for content that a rollback relies on and that is not whole any more. */
export function contentGone(label: RepositoryName, digests: readonly Digest[]): HodError {
  return new HodError('content-gone', {
    what: 'the registry has lost the earlier release',
    object: digests.map((digest) => `${label}@${digest}`),
    why: 'somebody removed its content, or a clean-up of the registry did',
    next: 'go back to another release (--to), or publish and promote a new one; where the environment moved, `hod promote ENV --mend` copies what the former place has; nothing was changed',
  });
}
