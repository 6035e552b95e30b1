import { shortCommit } from '../core/commit';
import type { Target, Variant } from '../core/deployment/parts';
import { servedIn } from '../core/ledger/environment';
import type { FactKey, ServedComponent } from '../core/ledger/facts';
import { isName } from '../core/names';
import { formatRepository, type RepositoryName } from '../core/oci/reference';
import { commonTag, literal, tagForm } from '../core/tags/overlap';
import { wasAdmitted } from '../core/release/gates/way-in';
import { refuseUnmet } from '../core/release/refusal';
import type { Ledger } from '../ledger/ledger';
import { wayInto, type Config, type EnvironmentConfig } from '../workspace/config';

/** What an environment serves, and served. */
export interface Served {
  /** Of the components of hod.yaml. */
  readonly served: readonly ServedComponent[];
  /** The components that it serves and that hod.yaml does not have. */
  readonly former: readonly string[];
  /** The components that it served once, and serves no more. */
  readonly once: readonly string[];
}

/**
 * Reads what an environment serves of the components of hod.yaml.
 *
 * @throws {@link HodError} `not-admitted` where something of it did not come in as hod.yaml says.
 */
export async function servedAsAdmitted(
  { components }: Config,
  environment: EnvironmentConfig,
  ledger: Ledger,
): Promise<Served> {
  const { facts } = await ledger.read([{ kind: 'environment', key: environment.name }]);
  const all = servedIn(facts, environment.name);
  const isNamed = ({ component }: ServedComponent): boolean =>
    components.some(({ name, was }) => name === component || was.includes(component));
  const served = all.filter(isNamed);
  await refuseUnadmitted(served, environment, ledger);
  const former = all.filter((each) => !isNamed(each)).map(({ component }) => component);
  return { served, former, once: facts.get('environment', environment.name)?.once ?? [] };
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
export function targetsIn(config: Config, served: readonly ServedComponent[]): Target[] {
  const { components, environments } = config;
  const targets = new Map<RepositoryName, Variant[]>();
  for (const { name: component, was } of components) {
    // Under its former name where the environment does not have it under the new one yet.
    const own = [component, ...was].flatMap((name) => served.find((each) => each.component === name) ?? [])[0];
    const serves = own && { repository: own.repository, digest: own.digest, name: nameOf(own) };
    const mayHave = tagsOf(component, config);
    for (const repository of new Set(repositoriesOf([component, ...was], environments))) {
      const variant = { target: { component, repository, serves }, mayHave };
      targets.set(repository, [...(targets.get(repository) ?? []), variant]);
    }
  }
  return [...targets.values()].flatMap((variants) => {
    const [only, ...others] = variants.map(({ target }) => target);
    return only === undefined ? [] : [others.length === 0 ? only : { ...only, variants }];
  });
}

/** Tells of a tag whether a rule of a component can give it. */
function tagsOf(component: string, { product, environments }: Config): Variant['mayHave'] {
  const rules = environments.flatMap(({ rulesOf }) => rulesOf(component));
  return (tag) => {
    const found = literal(tag);
    return rules.some(({ template }) => commonTag(tagForm(template, { component, product }), found) !== undefined);
  };
}

/** The repositories of the components that an environment served once or still serves, and that hod.yaml has no more. */
export function retiredTargetsIn(
  { components, environments }: Config,
  environment: string,
  { former, once }: Pick<Served, 'former' | 'once'>,
): Target[] {
  const why = (component: string): string =>
    former.includes(component)
      ? `hod.yaml has no ${component} any more; ${environment} still serves it`
      : `${component} retired: ${environment} no longer serves it`;
  return [...new Set([...former, ...once])]
    .filter((name) => isName(name) && !components.some((each) => each.name === name || each.was.includes(name)))
    .flatMap((component) =>
      repositoriesOf([component], environments).map((repository) => {
        return { component, repository, serves: undefined, retired: why(component) };
      }),
    );
}

function repositoriesOf(names: readonly string[], environments: Config['environments']): RepositoryName[] {
  return names.flatMap((name) => environments.map((each) => formatRepository(each.repositoryOf(name))));
}

/** What people call it: the tag of its version, where it has one. */
function nameOf({ version, commit, tags }: ServedComponent): string {
  const tag = tags.find((each) => each === version?.replace('+', '_')) ?? tags[0];
  return tag ?? shortCommit(commit);
}
