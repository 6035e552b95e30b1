import { shortCommit } from '../core/commit';
import type { Target } from '../core/deployment/parts';
import { servedIn } from '../core/ledger/environment';
import type { FactKey, ServedComponent } from '../core/ledger/facts';
import { formatRepository, type RepositoryName } from '../core/oci/reference';
import { wasAdmitted } from '../core/release/gates/way-in';
import { refuseUnmet } from '../core/release/refusal';
import type { Ledger } from '../ledger/ledger';
import { wayInto, type Config, type EnvironmentConfig } from '../workspace/config';

/**
 * Reads what an environment serves of the components of hod.yaml.
 *
 * @throws {@link HodError} `not-admitted` where something of it did not come in as hod.yaml says.
 */
export async function servedAsAdmitted(
  { components }: Config,
  environment: EnvironmentConfig,
  ledger: Ledger,
): Promise<readonly ServedComponent[]> {
  const { facts } = await ledger.read([{ kind: 'environment', key: environment.name }]);
  const served = servedIn(facts, environment.name).filter(({ component }) =>
    components.some(({ name, was }) => name === component || was.includes(component)),
  );
  await refuseUnadmitted(served, environment, ledger);
  return served;
}

async function refuseUnadmitted(
  served: readonly ServedComponent[],
  environment: EnvironmentConfig,
  ledger: Ledger,
): Promise<void> {
  const { facts } = await ledger.read(served.map(({ release }): FactKey => ({ kind: 'release', key: release })));
  refuseUnmet(
    served.flatMap((each) => {
      const release = facts.get('release', each.release);
      return release === undefined ? [] : [wasAdmitted(each, release, wayInto(environment))];
    }),
  );
}

/** Every repository of the product, whatever environment it is of, and what its references are to lead to. */
export function targetsIn({ components, environments }: Config, served: readonly ServedComponent[]): Target[] {
  const targets = new Map<RepositoryName, Target>();
  for (const { name: component, was } of components) {
    // Under its former name where the environment does not have it under the new one yet.
    const own = [component, ...was].flatMap((name) => served.find((each) => each.component === name) ?? [])[0];
    const serves = own && { repository: own.repository, digest: own.digest, name: nameOf(own) };
    for (const repository of [component, ...was].flatMap((name) =>
      environments.map((each) => formatRepository(each.repositoryOf(name))),
    )) {
      targets.set(repository, { component, repository, serves });
    }
  }
  return [...targets.values()];
}

/** What people call it: the tag of its version, where it has one. */
function nameOf({ version, commit, tags }: ServedComponent): string {
  const tag = tags.find((each) => each === version?.replace('+', '_')) ?? tags[0];
  return tag ?? shortCommit(commit);
}
