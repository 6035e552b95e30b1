import { servedIn } from '../core/ledger/environment';
import type { Ledger } from '../ledger/ledger';
import type { RepositoryTarget } from '../registry/ports';
import type { RepositoryClient } from '../registry/repository';
import type { Session } from '../session/session';
import type { Config, EnvironmentConfig } from '../workspace/config';

/** A component, and where an environment has it. */
export interface Place {
  readonly component: string;
  readonly target: RepositoryTarget;
}

/** Returns where an environment has every component of the product, and every one that it serves, or served once. */
export async function placesIn(
  { components }: Config,
  environment: EnvironmentConfig,
  { ledger, session }: { readonly ledger: Ledger; readonly session: Session },
): Promise<{ component: string; target: RepositoryClient }[]> {
  const { name } = environment;
  const { facts } = await ledger.read([{ kind: 'environment', key: name }]);
  const names = [
    ...components.map((each) => each.name),
    ...servedIn(facts, name).map(({ component }) => component),
    ...(facts.get('environment', name)?.once ?? []),
  ];
  return [...new Set(names)].map((component) => {
    return { component, target: session.client(environment.repositoryOf(component)) };
  });
}
