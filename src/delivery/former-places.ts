import { parseRepository, type Repository } from '../core/oci/reference';
import type { Despite } from '../core/release/despite';
import { inFormerPlaces, type WayIn } from '../core/release/gates/way-in';
import type { Ledger } from '../ledger/ledger';
import { settleAll } from '../system/promises';
import { witnessWrite, type WitnessTarget } from './present';

/**
 * Checks that this identity may write where an environment was so far, where somebody says that it is elsewhere from now
 * on: who says where production is must be able to write to production.
 *
 * @throws `content-gone`, and what the registry says where it may not be written.
 */
export async function checkFormerPlaces(
  wayIn: Pick<WayIn, 'environment' | 'repositoryOf'>,
  { newWayIn }: Despite,
  { ledger, clientOf }: { ledger: Pick<Ledger, 'read'>; clientOf: (repository: Repository) => WitnessTarget },
): Promise<void> {
  if (!newWayIn) {
    return;
  }
  const { facts } = await ledger.read([{ kind: 'environment', key: wayIn.environment }]);
  const former = inFormerPlaces(wayIn, facts);
  await settleAll(former.map(({ repository, digest }) => witnessWrite(clientOf(parseRepository(repository)), digest)));
}
