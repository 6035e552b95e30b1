import { timestampOf } from '../core/time';
import type { Ledger } from '../ledger/ledger';
import type { Session } from '../session/session';
import type { Config } from '../workspace/config';
import { usualBranches } from '../workspace/git';
import { Tidying, type TidyEnvironment, type TidyQuestion } from '../tidying/tidying';
import type { RepositoryGrowth } from '../core/tidy/growth';

/** What tidying asks about a product: every environment, with the branches that the first one follows. */
export async function tidyQuestion(
  { environments, components, folder }: Config,
  rest: Pick<TidyQuestion, 'chosen' | 'versions' | 'unknown'>,
): Promise<TidyQuestion> {
  const [first] = environments;
  const follows = first.follows ?? (await usualBranches(folder));
  const all = environments.map((each): TidyEnvironment => {
    return { ...each, repositoryOf: (name) => each.repositoryOf(name), follows: each === first ? follows : undefined };
  });
  return { environments: all, components: components.map(({ name }) => name), ...rest };
}

/**
 * Tells how much the repositories of some environments hold, and why.
 *
 * @param ask Ask the registries how much that is in bytes.
 */
export async function readGrowth(
  environments: readonly string[],
  { config, session, ledger }: { readonly config: Config; readonly session: Session; readonly ledger: Ledger },
  { ask }: { readonly ask: boolean },
): Promise<RepositoryGrowth[]> {
  const question = await tidyQuestion(config, { chosen: environments, versions: false, unknown: undefined });
  const tidying = new Tidying(question, { ledger, client: (repository) => session.client(repository) });
  return tidying.growth(await tidying.plan(timestampOf(new Date())), { ask });
}
