import { parseRepository, type Repository, type RepositoryName } from '../core/oci/reference';
import { servedIn } from '../core/release/coming';
import type { Despite } from '../core/release/despite';
import type { Ledger } from '../ledger/ledger';
import { allSettled } from './carry';
import { witnessWrite, type WitnessTarget } from './present';

/**
 * Checks that this identity may write where an environment was so far, where somebody says that it is elsewhere from now
 * on: who says where production is must be able to write to production.
 *
 * @param repositoryOf Where hod.yaml has an image of the environment.
 * @throws `content-gone`, and what the registry says where it may not be written.
 */
export async function checkFormerPlaces(
  environment: string,
  repositoryOf: (image: string) => RepositoryName,
  { newWayIn }: Despite,
  { ledger, clientOf }: { ledger: Pick<Ledger, 'read'>; clientOf: (repository: Repository) => WitnessTarget },
): Promise<void> {
  if (!newWayIn) {
    return;
  }
  const { facts } = await ledger.read([{ kind: 'environment', key: environment }]);
  const former = servedIn(facts, environment).filter(({ image, repository }) => repository !== repositoryOf(image));
  await allSettled(former.map(({ repository, digest }) => witnessWrite(clientOf(parseRepository(repository)), digest)));
}
