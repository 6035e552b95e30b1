import { formatRepository, parseRepository, repositoryNameSchema, type Repository } from '../core/oci/reference';
import { inFormerPlaces } from '../core/release/gates/way-in';
import type { Despite } from '../core/release/despite';
import type { DeliveryContext } from '../delivery/delivery';
import { moveEnvironment, type MovedEnvironment } from '../delivery/move';
import { placesIn } from '../delivery/places';
import { checkFormerPlaces } from '../delivery/write-rights';
import type { Session } from '../session/session';
import { wayInto, type Config, type EnvironmentConfig } from '../workspace/config';

/** What a run is told of an environment that may have moved. */
interface MoveOptions {
  readonly despite: Despite;
  /** Copy what the environment needs from where it was. */
  readonly mend?: true | undefined;
}

/**
 * Moves an environment that hod.yaml has in other repositories than the ledger, where that is meant; and copies what is missing
 * where one moved earlier. Undefined where neither is to be done: then the way in is judged as any.
 *
 * @throws `content-gone`, and what a registry says where its former place may not be written.
 */
export async function moveIfElsewhere(
  config: Config,
  environment: EnvironmentConfig,
  { despite, mend }: MoveOptions,
  { session, context }: { readonly session: Session; readonly context: DeliveryContext },
): Promise<MovedEnvironment | undefined> {
  if (!despite.newWayIn && mend !== true) {
    return undefined;
  }
  const { name } = environment;
  const { ledger, dryRun } = context;
  const clientOf = (repository: Repository) => session.client(repository);
  const { facts } = await ledger.read([{ kind: 'environment', key: name }]);
  const elsewhere = inFormerPlaces(wayInto(environment), facts).length > 0;
  const movedEarlier = (facts.get('environment', name)?.places ?? []).length > 0;
  if (elsewhere ? !despite.newWayIn : mend !== true || !movedEarlier) {
    return undefined;
  }
  if (!dryRun) {
    await checkFormerPlaces(wayInto(environment), despite, { ledger, clientOf });
  }
  const others = config.environments.filter((each) => each.name !== name);
  return moveEnvironment(
    {
      environment: name,
      product: config.product,
      reason: despite.reason,
      copies: mend === true,
      carrying: environment.carrying,
      placeOf: (component) => repositoryNameSchema.parse(formatRepository(environment.repositoryOf(component))),
      places: await placesIn(config, environment, { ledger, session }),
      sourcesOf: (component, former) => [
        ...former.map((each) => clientOf(parseRepository(each))),
        ...others.map((each) => clientOf(each.repositoryOf(component))),
      ],
    },
    context,
  );
}
